"""A trial regression on a design: to read its coefficients and to check the matrix, not a modelling package."""
