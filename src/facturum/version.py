"""The version, in the code itself, so that a build says which code made it."""

VERSION = "0.2.0"
