"""Layouts: check, prove, explain."""
