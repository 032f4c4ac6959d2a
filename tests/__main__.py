"""Runs all tests: `python -m tests`. What builds warn of is a part of what is tested, and is not printed besides."""

import unittest
import warnings

from facturum import FacturumWarning

warnings.simplefilter("default")
warnings.simplefilter("ignore", FacturumWarning)
unittest.main(module=None, argv=["tests", "discover", "-s", "tests", "-t", "."], warnings="")
