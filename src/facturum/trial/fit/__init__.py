"""Fitting: least squares and likelihoods."""
