"""Sums, moments and order statistics whose digits depend on no order of the values."""
