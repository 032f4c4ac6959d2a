"""Standard errors."""
