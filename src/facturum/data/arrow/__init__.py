"""Tables from Arrow, DataFrames and NumPy, and back."""
