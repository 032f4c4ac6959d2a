"""Views for the terminal."""
