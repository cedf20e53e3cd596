"""What can be asked for: commands, keys, menus."""
