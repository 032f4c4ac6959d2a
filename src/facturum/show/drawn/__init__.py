"""Figures, and the report page."""
