"""Writing a file by its layout: what changes, where each part is placed, and the directory."""
