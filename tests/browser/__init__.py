"""The report in a real browser: `make browser`, which needs Chromium."""
