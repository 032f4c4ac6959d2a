"""Runs all tests on all processors: `python -m tests`."""

import sys

from tests.running import main

if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
