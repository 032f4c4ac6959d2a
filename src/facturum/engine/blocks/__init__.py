"""Rows in blocks, with the margins that operations along time read."""
