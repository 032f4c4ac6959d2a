"""Terminal tables."""
