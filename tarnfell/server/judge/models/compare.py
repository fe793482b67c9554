"""Two runs side by side."""

from __future__ import annotations

from pydantic import Field

from tarnfell.server.http.models.base import Model


class CompareQuery(Model):
    first: int = Field(ge=1, le=2**62)
    second: int = Field(ge=1, le=2**62)


class ComparedRun(Model):
    id: int
    site_name: str
    site_slug: str
    time_zone: str
    started_us: int
    words: str
    """What was placed, in words."""
    good: int
    calls: int
    tainted: bool


class DifferenceView(Model):
    first: float | None
    second: float | None
    change: float | None
    low: float | None
    high: float | None
    sure: bool


class ComparedMeasure(Model):
    key: str
    title: str
    unit: str
    places: int
    higher_is_better: bool
    difference: DifferenceView
    first_values: list[float]
    """Of each call."""
    second_values: list[float]


class ComparePage(Model):
    first: ComparedRun
    second: ComparedRun
    differs: list[str]
    """What was placed differently."""
    cautions: list[str]
    share: DifferenceView
    up: list[ComparedMeasure]
    down: list[ComparedMeasure]
