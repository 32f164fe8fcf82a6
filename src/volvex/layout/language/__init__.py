"""The layout language: from a layout's text to its checked model."""
