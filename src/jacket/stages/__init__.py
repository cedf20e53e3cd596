"""The stages of the job, a room each."""
