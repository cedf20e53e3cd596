"""What the dense mesh knows, on the light one: frames, texels, rays, maps."""
