"""Tools of the Layout stage."""
