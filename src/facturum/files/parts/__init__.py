"""Tables that are not in memory: taken in, built and verified in parts."""
