"""What one unit of a column means, a kind a class: in words, where it is 0, what it compares, and as the response."""
