"""What files are: by signature, structure, content, and by looking inside unknown ones."""
