"""The commands, a file for each or for those that belong together."""
