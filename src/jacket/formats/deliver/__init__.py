"""What a delivery writes."""
