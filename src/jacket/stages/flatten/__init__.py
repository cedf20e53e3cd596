"""The Flatten stage."""
