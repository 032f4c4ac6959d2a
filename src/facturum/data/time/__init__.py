"""Periods, series of rows, and conversion from one step to another."""
