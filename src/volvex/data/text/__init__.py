"""Data stored as text: documents that are edited in place, with every other byte kept."""
