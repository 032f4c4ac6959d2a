"""Edits of the plan that are tried before they are advised."""
