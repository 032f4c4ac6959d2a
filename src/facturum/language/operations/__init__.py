"""The operations of the language, one family a file."""
