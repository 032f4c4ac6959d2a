"""The commands, thin."""
