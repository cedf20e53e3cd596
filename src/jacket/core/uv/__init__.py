"""UV sets: coordinates, cuts, pins, islands."""
