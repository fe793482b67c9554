"""Looking at addresses by echoes, and walking about with a probe."""

from __future__ import annotations

from pydantic import Field, model_validator

from tarnfell.core.survey import Place
from tarnfell.server.check.models.checks import EndChoice
from tarnfell.server.http.models.base import Model
from tarnfell.store.jobs import State
from tarnfell.wire.kinds.look import LEAST_BYTES, LEAST_INTERVAL_S, LONGEST_S, MOST_BYTES, MOST_ROUNDS, LookSeries


class AskLook(Model):
    probe_id: int | None
    """Null: from the server."""
    host: str = Field("", max_length=253)
    """A name or an address; empty: the gateway of who looks."""
    rounds: int | None = Field(None, ge=1, le=MOST_ROUNDS)
    """Null: until it is stopped, an hour at most."""
    interval_s: float = Field(0.5, ge=LEAST_INTERVAL_S, le=60)
    small_bytes: int = Field(64, ge=LEAST_BYTES, le=MOST_BYTES)
    large_bytes: int | None = Field(1400, ge=LEAST_BYTES, le=MOST_BYTES)
    """Null: only small ones."""

    @model_validator(mode="after")
    def _bounded(self) -> AskLook:
        if self.rounds and self.rounds * self.interval_s > LONGEST_S:
            raise ValueError(f"{self.rounds} rounds, {self.interval_s:g} s apart, take longer than an hour.")
        if self.large_bytes is not None and self.large_bytes <= self.small_bytes:
            raise ValueError("Large packets must be larger than small ones.")
        return self


class LookView(Model):
    id: int
    """Among those from probes, or among those from the server."""
    probe: str | None
    """Null: from the server."""
    host: str
    """Empty: the gateway of who looks."""
    asked_us: int
    state: State
    words: str
    after_s: float
    seconds: float
    interval_s: float
    series: list[LookSeries]
    cannot: list[str]


class LookPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    probes: list[EndChoice]
    looks: list[LookView]
    """Newest first."""


class AskPlace(Model):
    probe_id: int
    far_end_id: int
    name: str = Field(min_length=1, max_length=80)
    seconds: float = Field(20, ge=10, le=120)


class ChangePlace(Model):
    name: str | None = Field(None, min_length=1, max_length=80)
    removed: bool | None = None


class PlaceView(Model):
    id: int
    name: str
    probe: str
    asked_us: int
    state: State
    words: str
    """Where it stands, or why there is nothing."""
    left_s: float | None
    """While it is measured: about so much longer."""
    medium: str | None
    link_mbps: int | None
    wifi_signal_dbm: int | None
    gateway_small: LookSeries | None
    gateway_large: LookSeries | None
    far_small: LookSeries | None
    far_large: LookSeries | None
    place: Place | None
    """Null until it is judged."""
    removed: bool


class SurveyPage(Model):
    site_name: str
    engagement_slug: str
    engagement_name: str
    time_zone: str
    target_mos: float
    codec_title: str
    probes: list[EndChoice]
    far_ends: list[EndChoice]
    places: list[PlaceView]
    """Newest first."""


class JoinPlace(Model):
    name: str = Field(min_length=1, max_length=80)


class JoinSurvey(Model):
    """What the person who carries the probe about sees."""

    open: bool
    """Whether a place can be measured now."""
    says: str
    places: list[PlaceView]
    target_mos: float
