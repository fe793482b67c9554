"""Tests from a browser: the links that consultants send, and the page behind one."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field

from tarnfell.server.http.models.base import Model
from tarnfell.server.place.models.places import InvitationView
from tarnfell.server.place.models.relays import TestRelay
from tarnfell.store.browsers import Way
from tarnfell.store.jobs import State
from tarnfell.wire.browser import MAX_OFFER, MAX_SECONDS, MOST_CALLS
from tarnfell.wire.kinds.reach import MOST_RELAYS

LEAST_SECONDS = 10.0


class BrowserLinkForm(Model):
    test_point_id: int
    name: str = Field(min_length=1, max_length=80)
    """Of who gets it, or of the desk."""
    calls: int = Field(ge=1, le=MOST_CALLS)
    seconds: float = Field(ge=LEAST_SECONDS, le=MAX_SECONDS)
    fill_s: Literal[0, 5, 10, 20] = 0
    """How long the line is filled each way after the calls; 0: it is not."""


class BrowserCounts(Model):
    counts: bool


class SelfRunDirection(Model):
    """One way of one test, over its calls."""

    loss_pct: float
    """Lost, and too late to be played."""
    delay_ms: float | None
    jitter_ms: float
    """At its peak in any call (RFC 3550 §6.4.1)."""
    mos: float | None
    """Of the calls in the middle."""
    acceptable: int
    why: str


class ReachHop(Model):
    number: int
    address: str | None
    rtt_ms: float | None
    """Half of its answers took at most so long."""


class SelfReach(Model):
    """How a browser came to the far end."""

    says: list[str]
    hops: list[ReachHop]
    """From the far end towards the browser."""


class SelfRun(Model):
    """One test from a browser, as whoever ran it and the consultant see it."""

    run_id: int
    far_end: str
    at_us: int
    state: State
    calls: int
    failure: str | None
    doubts: list[str]
    """Why the browser or the far end measured itself rather than the network; empty where the result is to be
    trusted."""
    own_doubt: bool
    """Whether the browser is among those that spoiled it."""
    scatter_ms: float | None
    """How long, of a hundred packets that came, the slowest but one waited for the browser itself."""
    hidden_s: float
    """How long the page was in the background."""
    reach: SelfReach
    way: Way
    """Through a relay, or over a WebSocket to this server: never evidence of what calls of the site would have."""
    up: SelfRunDirection | None
    down: SelfRunDirection | None


class SelfFillWay(Model):
    """One way of the line, while it was filled."""

    throughput_kbps: float | None
    added_ms: float | None
    """One-way delay of a call's packets above what they had on the idle line; of twenty, the slowest but one."""
    loss_pct: float | None
    mos_idle: float | None
    mos: float | None


class SelfFill(Model):
    """One fill of the line from a browser."""

    job_id: int
    far_end: str
    at_us: int
    state: State
    failure: str | None
    doubts: list[str]
    """Why an end measured itself rather than the network."""
    says: list[str]
    """Empty until it is judged."""
    reach: SelfReach
    way: Way
    """Of the call beside it."""
    up: SelfFillWay | None
    down: SelfFillWay | None


class RunBeside(Model):
    """The run that a probe placed at the same test point, nearest in time to the browser's newest."""

    run_id: int
    probe: str
    far_end: str
    at_us: int
    apart_s: float
    """From the browser's; negative: it was earlier."""
    up: SelfRunDirection | None
    down: SelfRunDirection | None


class WayBeside(Model):
    """The way from a probe at the browser's desk to the far end, as its newest check found it."""

    probe: str
    at_us: int
    address: str
    """Of the far end."""
    reached: bool
    hops: list[ReachHop]


class BrowserLinkView(Model):
    probe_id: int
    name: str
    test_point: str
    codec_title: str
    calls: int
    seconds: float
    invitation: InvitationView | None
    created_us: int
    fill_s: float
    runs: list[SelfRun]
    """Newest first."""
    fills: list[SelfFill]
    """Newest first."""
    beside: RunBeside | None
    """Null while this browser has no result, or no probe has one there."""
    way: WayBeside | None
    """Null where no probe is at that desk, or none has looked."""


class BrowserLinks(Model):
    site_name: str
    site_slug: str
    engagement_name: str
    engagement_slug: str
    time_zone: str
    target_mos: float
    counts: bool
    not_counted: int
    """Calls with results that are shown and do not count."""
    test_points: dict[int, str]
    most_calls: int
    no_fill: str | None
    """Why no browser may fill this site's line; null where one may."""
    far_ends: list[str]
    """Chosen for this site, and reached by the server: one of them must have been started for browsers."""
    links: list[BrowserLinkView]


class TestFarEnd(Model):
    id: int
    name: str
    place: str
    connect_ms: float | None
    """Nearest that a probe at the site has measured; null where none has."""


class TestFill(Model):
    """How the line will be filled: idle first, then each way with a rest after it, one call beside all of it."""

    idle_s: float
    seconds: float
    rest_s: float
    length_s: float
    streams: int
    ways: list[Literal["up", "down"]]
    volume_mb: float | None
    """At the most; null where the line's rates are not known."""


class TestSocket(Model):
    """Where calls may go over WebSocket."""

    port: int | None
    """Of the page's own host; null where the page's own address leads there."""


class TestPage(Model):
    """What whoever opened the link is told before anything runs."""

    site: str
    test_point: str
    name: str
    engagement: str
    from_whom: str
    brand: str
    contact: str
    logo: str
    colour: str
    """Of the brand's name, on paper; empty for the page's own."""
    locale: str
    """Language and country (BCP 47) in whose way dates and numbers are written."""
    state: Literal["open", "expired", "revoked"]
    until_us: int
    time_zone: str
    codec_title: str
    calls: int
    interval_ms: int
    filling: int
    seconds: float
    fill: TestFill | None
    """Null where the line is not to be filled."""
    relay: TestRelay | None
    """To be tried where UDP does not pass; null where there is none, or nothing may be begun."""
    socket: TestSocket | None
    """To be tried where nothing else passes; null where the server takes none."""
    each_way_kbps: float
    volume_mb: float
    """Both ways."""
    target_mos: float
    far_ends: list[TestFarEnd]
    """The nearest first."""
    runs: list[SelfRun]
    fills: list[SelfFill]


class BeginTest(Model):
    far_end_id: int
    offer: str = Field(min_length=1, max_length=MAX_OFFER)
    relayed: bool = False
    """Through the engagement's relay, since no packet came through without."""


class BeginOverSocket(Model):
    far_end_id: int
    """That no UDP reached."""


class SocketBegun(Model):
    job_id: int
    token: str
    """Opens the WebSocket, once."""
    most_bytes: int = 0
    """That the streams of a fill may move in all; 0: no more than their time allows, and for calls."""


class TestBegun(Model):
    model_config = ConfigDict(str_strip_whitespace=False)

    job_id: int
    answer: str
    """SDP, whose last line ends like the others (RFC 8866 §5)."""
    most_bytes: int = 0
    """Of a fill: what its streams may move, for the line is metered; 0: no end but their time."""


class TestAnswer(Model):
    model_config = ConfigDict(str_strip_whitespace=False)

    answer: str


class StreamTaken(Model):
    bytes: int


class TestGoesOn(Model):
    stop: bool


class RelayFound(Model):
    """One way to the relay, as the browser tried it."""

    by: Literal["udp", "tcp", "tls"]
    took_ms: float | None = Field(ge=0, le=1e6)
    """Null where it gave no address."""
    code: int = Field(0, ge=0, le=999)
    words: str = Field("", max_length=200)


class WebFound(Model):
    """Small requests to the web server, one after another, as the page timed them."""

    asked: int = Field(ge=1, le=100)
    answered: int = Field(ge=0, le=100)
    median_ms: float = Field(ge=0, le=1e6)
    most_ms: float = Field(ge=0, le=1e6)


class TestFailed(Model):
    why: Literal["no-connection", "no-address", "no-socket", "given-up"]
    web: WebFound | None = None
    relays: list[RelayFound] = Field([], max_length=MOST_RELAYS)
