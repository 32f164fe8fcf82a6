"""The slip, where boats and the lighthouse stand as models: meshes, skeletons, animations, materials; a buoy as text.

All of it has z up, the left hand, and centimetres.

slip/patience.kmm     KMM1, a boat: parts by material, levels of detail, a shape for collisions; vertices in one row
                      (positions of
                      16 bits, packed normals, half floats); hard points
slip/patience.kms     KMS1, its skeleton: joints by name, the inverse of the pose in which the mesh is bound
slip/patience_row.kma KMA1, an animation: tracks of joints by the hash of their name, keys at frames; turns in 32 bits,
  moves in ranges
slip/old_light.kml    KML1, big endian: vertices in four rows (half floats, octahedral normals), strips, two bones a
                      part
slip/old_light.kms, old_light_turn.kma
slip/materials.kmt    KMT1: for each material its textures, its colour, how it is seen through
slip/buoy.obj         the buoy, as text, with buoy.mtl

The game refuses wrong checksums, boxes that are not those of the vertices, weights that do not sum to 255, normals that
are not of length 1, joints, materials and textures that are nowhere, levels that are not smaller than the one before,
keys that do not rise.
"""

from __future__ import annotations

from kelpwick.slip.load import models, read, screen
from kelpwick.slip.make import write

__all__ = ["models", "read", "screen", "write"]
