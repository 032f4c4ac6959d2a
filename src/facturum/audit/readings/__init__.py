"""What the coefficient of a column means, in sentences."""
