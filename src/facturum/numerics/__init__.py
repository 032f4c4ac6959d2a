"""Arrays in, numbers out: exact sums, order statistics, contrasts, powers."""
