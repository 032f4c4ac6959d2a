"""Views of builds for the terminal."""
