"""The expressions of a plan, checked and written out."""
