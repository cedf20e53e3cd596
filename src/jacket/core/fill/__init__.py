"""Filling borders with quads and bridging them."""
