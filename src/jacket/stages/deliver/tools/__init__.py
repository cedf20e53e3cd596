"""Tools of the Deliver stage."""
