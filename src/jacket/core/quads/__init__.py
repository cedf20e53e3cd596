"""Automatic quads: base mesh → orientation field → integer-grid map → extraction → clean-up."""
