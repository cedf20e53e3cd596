"""How the rows of a jacket run over the whole form, and rows that close."""
