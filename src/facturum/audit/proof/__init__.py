"""Verifying a build against its source."""
