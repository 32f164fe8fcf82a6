"""Changing files of a game in place: what has to be written, and the writing of it."""
