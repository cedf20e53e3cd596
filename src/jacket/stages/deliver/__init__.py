"""The Deliver stage."""
