"""Verifying a build: its rows made anew beside those stored, and each column by its formula."""
