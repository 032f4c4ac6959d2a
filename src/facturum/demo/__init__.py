"""The sample data, the script that makes them, and their plans."""
