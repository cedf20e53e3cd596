"""Typed values that stay between sessions: loaded, migrated, saved where they differ."""

from jacket.settings.store import Settings, load_settings, save_settings

__all__ = ["Settings", "load_settings", "save_settings"]
