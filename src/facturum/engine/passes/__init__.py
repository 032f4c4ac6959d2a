"""Passes over the rows: selecting, learning, filling the matrix."""
