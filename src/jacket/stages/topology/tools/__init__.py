"""Tools of the Topology stage."""
