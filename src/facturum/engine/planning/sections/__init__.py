"""The sections of a plan before its expressions are read: names, quoting, variables that are needed."""
