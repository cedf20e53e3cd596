"""Islands on a sheet: texel density, packing, overlap and margins."""
