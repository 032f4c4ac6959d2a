"""What several operations learn alike: groups of rows, samples of values."""
