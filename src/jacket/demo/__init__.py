"""The demo world of Saltmarsh Lamps: three invented sources made from formulas, at any density."""
