"""Dialogs, autosave, files that change."""
