"""The Topology stage."""
