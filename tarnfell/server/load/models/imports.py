"""Imported files: captures and logs of ping."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pydantic import Field

from tarnfell.core.imported import EchoFigures, ImportedStream
from tarnfell.core.legs import LegAdds, Role
from tarnfell.server.http.models.base import Model


class ImportQuery(Model):
    name: str = Field(min_length=1, max_length=200)
    codec: str | None = None
    """For streams whose payload type does not name one."""
    role: Role | None = None
    """Where along the path the host of a log stands."""


class ImportChange(Model):
    """What somebody says of a file; what is left out stays as it is."""

    name: str | None = Field(default=None, min_length=1, max_length=200)
    codecs: dict[str, str] | None = None
    pairs: tuple[tuple[int, int], ...] | None = None
    roles: dict[str, Role] | None = None
    starts_local: str | None = Field(default=None, max_length=25)
    test_point_id: int | None = None
    shown: bool | None = None


@dataclass(frozen=True, kw_only=True)
class EchoView(EchoFigures):
    role: Role | None
    started_us: int | None


class TestPointChoice(Model):
    id: int
    name: str


class ImportPage(Model):
    id: int
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    name: str
    kind: str
    created_us: int
    state: Literal["read", "reading", "failed"]
    """Large files are read after they were taken; what was read before is shown meanwhile."""
    failure: str | None
    packets: int
    cut_short: bool
    note: str
    notes: tuple[str, ...]
    streams: tuple[ImportedStream, ...]
    pairs: tuple[tuple[int, int], ...]
    """Streams that are the two directions of one call, by their place in the list."""
    echoes: list[EchoView]
    test_points: list[TestPointChoice]
    test_point_id: int | None
    shown: bool
    starts_local: str | None
    days: list[str]
    """Local days on which it stands beside the day sheet, if it is shown there."""
    can_change: bool
    """Whether the file itself was kept, so that it can be judged by other codecs."""


class PathPlace(Model):
    role: Role
    host: str | None
    sent: int
    lost: int
    p50_ms: float | None
    p95_ms: float | None
    through_loss_pct: float
    through_p50_ms: float | None
    through_p95_ms: float | None


class EchoPathView(Model):
    """What several logs say together."""

    places: list[PathPlace]
    legs: list[LegAdds]
    minutes: int | None
    not_faults: list[tuple[str, str]]
    says: str


class ImportSummary(Model):
    id: int
    name: str
    kind: str
    created_us: int
    state: Literal["read", "reading", "failed"]
    says: str
    shown: bool
    roles: list[Role]


class ImportList(Model):
    site_slug: str
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    imports: list[ImportSummary]
    path: EchoPathView | None


class ImportMade(Model):
    id: int
