"""Build folders: their files, written, opened and compared."""
