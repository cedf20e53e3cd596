"""The window: views, cards, strips, dialogs, workers; the composition root."""
