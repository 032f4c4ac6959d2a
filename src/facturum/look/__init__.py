"""Looking at a table before terms are chosen: its profile, and a first plan."""
