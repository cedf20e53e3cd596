"""What is edited: objects, seams, held elements, sheet settings; history and changes."""
