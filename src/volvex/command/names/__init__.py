"""Names of nameless entries: dictionaries, look-up, search."""
