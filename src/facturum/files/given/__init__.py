"""The tables that a plan is given: how their files are written, and which of them are read."""
