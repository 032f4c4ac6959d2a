"""From a plan and a table to checked expressions."""
