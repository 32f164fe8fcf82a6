"""Pictures: what they are, where their pixels lie, and how they go out to open formats and back into the game's own.

picture         a picture with all its levels, faces and layers, as it is stored
surface         the pixels of one level of one face of one layer: what is encoded together
level           a smaller copy of a picture; level 0 is the whole
pixel format    how pixels are stored: which channels, how many bits, in blocks or one by one
role            what a channel means: colour, alpha, normal, or data of another kind

A picture keeps its stored bytes. Pixels are decoded when somebody asks for them, and encoded where they changed: a
block whose pixels are as they were keeps its bytes. Nothing is converted that nobody asked for.
"""
