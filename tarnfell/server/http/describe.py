"""Writes the API's OpenAPI description to a file, for generating the front end's types."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

from tarnfell.server.http.api import openapi
from tarnfell.server.http.app import create_app


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        create_app(Path(folder))
    Path(sys.argv[1]).write_text(json.dumps(openapi(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
