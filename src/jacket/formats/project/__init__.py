"""Project files."""
