"""What a Python user holds: plans, designs, tables, expressions, results."""

from facturum.api.plan import Plan  # which tells designs the class of their plans

__all__ = ["Plan"]
