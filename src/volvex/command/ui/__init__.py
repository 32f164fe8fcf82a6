"""What commands share: the context, reading of paths, tables, trees, plots, and the main program."""
