"""The checks of a layout before any file is read: is it sound, and can it be written?"""
