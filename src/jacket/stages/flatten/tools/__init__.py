"""Tools of the Flatten stage."""
