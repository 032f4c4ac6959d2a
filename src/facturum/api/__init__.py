"""What a Python user holds: plans, designs, tables, expressions, results."""
