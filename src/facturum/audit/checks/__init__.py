"""What will trouble a regression on the matrix: each check a summary of a pass, told in a sentence with its remedy."""
