"""Many entries at once: unpacking, packing, rebuilding, salvaging, in parallel."""
