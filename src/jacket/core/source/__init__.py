"""The dense mesh as it arrives: welding, health, lighter copies."""
