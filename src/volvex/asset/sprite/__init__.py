"""Sprite sheets: one picture with many frames, and a list of where each lies.

frame     one sprite in a sheet: a name, a rectangle, perhaps turned, perhaps trimmed of what is transparent
list      the file that has the frames: XML, JSON, a property list, CSV, or a table by a layout
"""
