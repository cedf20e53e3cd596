"""Tools of the Source stage."""
