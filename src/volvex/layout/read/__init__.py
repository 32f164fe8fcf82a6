"""Reading a file by its layout: blocks, entries, names, and the verification of what was read."""
