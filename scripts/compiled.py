"""Compiles what the tests load: their parts begin at the same moment, and each would else compile all of it anew."""

from __future__ import annotations

import sys
from importlib import import_module
from pathlib import Path
from pkgutil import walk_packages

sys.path.insert(0, str(Path(__file__).parents[1]))

OF_TESTS = ("schemathesis", "tests.browser.driver", "tests.conftest", "tests.server.conftest")

if __name__ == "__main__":
    product = [one.name for one in walk_packages(import_module("tarnfell").__path__, "tarnfell.")]
    for name in (*OF_TESTS, *product):
        if not name.endswith("__main__"):
            import_module(name)
