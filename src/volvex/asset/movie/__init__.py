"""Movies: what they are, pictures of them, and a user's clip in the form of the game's own.

container  the file around the streams: mp4, webm, avi, or a game's own
stream     the packets of a movie's pictures, or of its sound
packet     the encoded bytes of one picture, or of some samples
key frame  a picture that needs no other to be decoded

Whatever decodes or encodes them works in a process of its own, which may die of a file. A movie in a container of a
game's own is put into an open one, without encoding anything, and is then a movie like others.
"""
