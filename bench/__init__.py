"""Measured figures: `./dev bench [NAME …]` prints them; nothing here is a test."""
