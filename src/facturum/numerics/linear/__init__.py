"""Triangular factors of matrices, and what follows from them."""
