"""Models: meshes, skeletons, animations and materials, in one form whatever file they come from.

Everything here is as glTF has it: y is up, the right hand, metres, textures from their upper left corner, triangles
counter-clockwise, quaternions as x, y, z, w. Formats of games' own are turned into that when they are read, and back
when they are written (`space.py`).
"""
