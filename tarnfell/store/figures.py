"""Figures of a direction as columns of a table: a column a field, markings as JSON."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import fields
from typing import Any, TypeVar

from tarnfell.core.directions import DirectionFigures, PictureFigures

AnyFigures = TypeVar("AnyFigures", DirectionFigures, PictureFigures)

_NAMES = {kind: tuple(f.name for f in fields(kind)) for kind in (DirectionFigures, PictureFigures)}


def columns(kind: type[DirectionFigures] | type[PictureFigures], of: str = "") -> str:
    """Their names for a statement, each with the table's name ``of`` before it."""
    return ", ".join(f"{of}{name}" for name in _NAMES[kind])


def assignments(kind: type[DirectionFigures] | type[PictureFigures]) -> str:
    return ", ".join(f"{name} = ?" for name in _NAMES[kind])


def values(figures: DirectionFigures | PictureFigures) -> list[Any]:
    return [json.dumps(value) if isinstance(value, dict) else value for value in vars(figures).values()]


def marks(kind: type[DirectionFigures] | type[PictureFigures]) -> str:
    """Question marks for ``values``."""
    return ", ".join("?" * len(_NAMES[kind]))


def figures_of(row: sqlite3.Row, kind: type[AnyFigures]) -> AnyFigures:
    # Not by ``row[name]``, which looks through all names of the row for each.
    told: dict[str, Any] = dict(zip(row.keys(), row, strict=True))
    told["dscp_received"] = json.loads(told["dscp_received"])
    return kind(**{name: told[name] for name in _NAMES[kind]})
