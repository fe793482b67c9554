"""Where probes and far ends stand, and how a probe gets there."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from tarnfell.server.http.models.base import Model
from tarnfell.server.watch.models.watches import WatchView
from tarnfell.store.jobs import State
from tarnfell.wire.kinds.surroundings import Surroundings

TestPointKindName = Literal["farthest", "desk", "wireless", "cabinet", "firewall", "outside"]


class TestPointForm(Model):
    name: str = Field(min_length=1, max_length=80)
    kind: TestPointKindName
    note: str = Field("", max_length=300)


class ProbeForm(Model):
    name: str = Field(min_length=1, max_length=80)
    test_point_id: int


class FarEndForm(Model):
    name: str = Field(min_length=1, max_length=80)
    place: str = Field("", max_length=200)
    host: str = Field(min_length=1, max_length=253)
    port: int = Field(4870, ge=1, le=65535)
    media_low: int = Field(20000, ge=1, le=65535)
    media_high: int = Field(20399, ge=1, le=65535)
    key: str | None = Field(None, min_length=16, max_length=200)
    """From the far end's key file; null leaves the one that is kept."""


class Chosen(Model):
    chosen: bool


class AskJob(Model):
    kind: Literal["distances", "update", "answer", "silence", "end"]


class InvitationView(Model):
    origin: str
    """That the path is of; empty for the one by which this is read."""
    path: str
    """Of the page for the people at the site."""
    until_us: int
    opened_us: int | None
    fetched_us: int | None
    used_us: int | None
    state: Literal["open", "used", "revoked", "expired"]


class JobView(Model):
    """One thing a probe was asked to do."""

    what: str
    asked_by: str | None
    asked_us: int
    taken_us: int | None
    began_us: int | None
    ended_us: int | None
    state: State
    outcome: str
    run_id: int | None


class ProbeCard(Model):
    id: int
    name: str
    test_point_id: int
    state: Literal["never online", "online", "offline"]
    says: str
    """How it is, and what to try when it is silent."""
    contact_address: str | None
    last_contact_us: int | None
    enrolled_us: int | None
    around: Surroundings
    invitation: InvitationView | None
    answers: bool
    """Whether it is a far end as well."""
    outdated: bool
    """Whether the server has a newer program for it."""
    watch: WatchView | None
    """Null where none was ever asked for."""
    history: list[JobView]


class TestPointView(Model):
    id: int
    name: str
    kind: TestPointKindName
    kind_words: str
    note: str
    probes: list[ProbeCard]


class DistanceView(Model):
    probe_id: int
    at_us: int
    connect_ms: float | None
    failure: str | None
    key_fits: bool | None


class FarEndCard(Model):
    id: int
    kind: Literal["host", "server", "probe"]
    name: str
    place: str
    host: str
    port: int
    media_low: int | None
    media_high: int | None
    chosen: bool
    other_sites: int
    """Sites besides this one that chose it."""
    probe_id: int | None
    distances: list[DistanceView]


class ArchivedFarEnd(Model):
    id: int
    name: str
    archived_us: int


class TestPointKindView(Model):
    kind: TestPointKindName
    words: str
    why: str


class PlacePage(Model):
    engagement_slug: str
    engagement_name: str
    site_slug: str
    site_name: str
    time_zone: str
    medium: str
    provider: str
    test_points: list[TestPointView]
    test_point_kinds: list[TestPointKindView]
    far_ends: list[FarEndCard]
    archived_far_ends: list[ArchivedFarEnd]


class Destination(Model):
    """Something on the network that a probe will speak to."""

    host: str
    ports: str
    what: str


class JoinLoad(Model):
    words: str
    next_us: int
    recurs: str | None
    """RFC 5545."""
    run_s: float
    peak_kbps: float
    """Each way, at the top."""
    volume_mb: float
    """All packets of one carrying-out, both ways."""


class JoinPage(Model):
    """What people at a site see behind the link they were sent."""

    site: str
    engagement: str
    test_point: str
    probe: str
    from_whom: str
    until_us: int
    time_zone: str
    state: Literal["open", "expired", "revoked", "running", "offline", "finished"]
    says: str
    destinations: list[Destination]
    loads: list[JoinLoad]
    """What is planned from this test point."""
    file: str
    file_kb: int
    command_unix: str
    command_windows: str
