"""The tests: unittest, the installed program on files in temporary folders, and the core on its own."""
