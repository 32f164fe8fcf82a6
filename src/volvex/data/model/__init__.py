"""Sheets, columns and cells: what every data file is seen as, whatever stores it."""
