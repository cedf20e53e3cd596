"""From the document to what is drawn."""
