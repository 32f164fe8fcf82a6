"""Exchange formats: one file each."""
