"""The column map and the row map of a build."""
