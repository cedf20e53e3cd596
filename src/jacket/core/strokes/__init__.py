"""Strips, grids and rings from strokes drawn on a surface."""
