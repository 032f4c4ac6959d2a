"""The core of the language: names and literals, arithmetic, comparisons, logic."""
