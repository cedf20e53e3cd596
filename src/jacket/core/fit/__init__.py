"""Bringing a jacket to its surface: relaxing, projecting, refitting."""
