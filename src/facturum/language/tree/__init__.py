"""Expressions: nodes, what they tell of themselves, what they read, the core of arithmetic and logic."""
