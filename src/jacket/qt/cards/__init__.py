"""Cards of the bench panel."""
