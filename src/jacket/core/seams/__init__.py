"""Where a jacket is cut: by hand, by angle, by suggestion; and the islands that come of it."""
