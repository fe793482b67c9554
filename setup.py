"""Builds the front end into the package where that has not been done, so that every wheel carries it."""

import subprocess
from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

ROOT = Path(__file__).parent


class BuildWithFrontEnd(build_py):
    def run(self) -> None:
        if not (ROOT / "tarnfell" / "web" / "index.html").exists() and not self.editable_mode:
            try:
                for step in (["npm", "ci", "--no-audit", "--no-fund"], ["npm", "run", "build"]):
                    subprocess.run(step, cwd=ROOT / "web", check=True)
            except FileNotFoundError:
                raise SystemExit("The front end is built with Node 20 or newer, and there is no npm here.") from None
        super().run()


setup(cmdclass={"build_py": BuildWithFrontEnd})
