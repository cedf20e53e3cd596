"""Tools of the Seams stage."""
