"""The language of plans: nodes, one file a family; the parser, the printer and the registry."""
