"""Two builds compared."""
