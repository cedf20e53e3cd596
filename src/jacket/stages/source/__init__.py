"""The Source stage."""
