"""Files in and out: meshes, projects, pictures, reports."""
