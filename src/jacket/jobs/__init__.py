"""Whole operations with typed settings that check themselves."""
