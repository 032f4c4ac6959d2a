"""Texts to expressions and back."""
