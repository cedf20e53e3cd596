"""Polygon meshes: the data, connectivity, geometry, edits and walks."""
