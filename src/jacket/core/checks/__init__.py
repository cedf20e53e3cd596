"""The live list of what is wrong: one function a stage, from arrays to checks."""
