"""Steps on the document, by what they change."""
