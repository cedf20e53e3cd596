"""Mesh files, a file a format."""
