"""Tables read from files, whole or block by block."""
