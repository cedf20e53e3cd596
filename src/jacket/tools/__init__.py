"""Gestures as state machines over plain events, and the registry of commands; no widgets."""
