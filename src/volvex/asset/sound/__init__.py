"""Sounds: what they are, where their samples lie, and how they go out to open forms and back into the game's own.

frame     one sample of each channel; lengths and places in a sound are counted in frames
rate      frames a second
encoding  how samples are stored: plain numbers, ADPCM, or one of an open form such as Vorbis
loop      frames that are played again and again; its end is the frame behind the last
cue       a marked frame

A sound is read from its head alone; its samples are decoded when somebody asks for them. Where samples are as they
were, their stored bytes are, too.
"""
