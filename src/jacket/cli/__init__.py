"""The command line; it needs neither Qt nor OpenGL."""
