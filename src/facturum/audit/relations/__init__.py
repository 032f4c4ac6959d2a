"""Relations among the columns of a matrix, and what is told of them."""
