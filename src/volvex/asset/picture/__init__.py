"""Pictures and textures: the model, open formats and games' own, edits put back into the original."""
