"""Sparse linear algebra behind one small interface."""
