"""Layouts: start one, check it, prove it, explain a file by it."""
