"""Islands laid flat: conformal start, then least stretch without flipped faces."""
