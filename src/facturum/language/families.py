"""Brings in every family, so that the registry is full: each file below `operations` is one."""

from importlib import import_module
from pkgutil import walk_packages

from facturum.language import operations
from facturum.language.tree.registry import REGISTRY

for _module in walk_packages(operations.__path__, f"{operations.__name__}."):
    import_module(_module.name)

__all__ = ["REGISTRY"]
