"""Jacket: an all-quad mesh fitted over a dense one, cut, flattened, packed and delivered."""

__version__ = "0.1.0"
