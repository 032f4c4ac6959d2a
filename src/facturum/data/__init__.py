"""Variables and their kinds, blocks of rows, periods, and tables taken in from elsewhere."""
