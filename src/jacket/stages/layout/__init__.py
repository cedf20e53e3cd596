"""The Layout stage."""
