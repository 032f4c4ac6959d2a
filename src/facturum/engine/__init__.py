"""Leaves and threads, evaluating, resolving, filling the matrix, rows kept and dropped."""
