"""Tables in another shape: stacked, unstacked, sampled."""
