"""The Seams stage."""
