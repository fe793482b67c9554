"""Writes the API's OpenAPI description, for the front end's types, and the JSON Schema of a report's figures.

``python -m tarnfell.server.http.describe web/openapi.json tarnfell/report/report.schema.json``
"""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter

from tarnfell.report.data import ReportData
from tarnfell.server.http.api import Described, openapi
from tarnfell.server.http.app import create_app


def main() -> None:
    api, report = map(Path, sys.argv[1:])
    with tempfile.TemporaryDirectory() as folder:
        create_app(Path(folder))
    _write(api, openapi())
    _write(report, report_schema())


def report_schema() -> dict[str, Any]:
    """JSON Schema 2020-12."""
    described = TypeAdapter(ReportData).json_schema(mode="serialization", schema_generator=Described)
    return {"$schema": Described.schema_dialect, **described, "title": "Figures of a Tarnfell readiness report"}


def _write(file: Path, described: dict[str, Any]) -> None:
    file.write_text(json.dumps(described, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
