"""What an analyst should notice of one variable."""
