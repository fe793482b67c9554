"""What checks of a demo site found: the answers its network would have given, judged like any others."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from datetime import datetime

import numpy as np

from tarnfell.demo.calls import EF, Ids
from tarnfell.demo.samples import OUTSIDE, edge_of, gateway_of
from tarnfell.demo.scenario import NAMES, RESOLVER, SERVICES
from tarnfell.demo.talk import talk
from tarnfell.demo.truth import DemoSite, Weather
from tarnfell.store import jobs as job_store
from tarnfell.store.checks import Asked
from tarnfell.store.db import writing
from tarnfell.wire.kinds import check as kind
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.path import HopFacts, PathFacts
from tarnfell.wire.kinds.signalling import SignallingFacts
from tarnfell.wire.kinds.translation import Kept, Mapped, TranslationFacts
from tarnfell.work.watch.proposal import LARGE_BYTES, SMALL_BYTES

ECHOES = 10
CALL_PACKETS = 50
MEDIA_PORTS = range(20000, 20128)
ASKED_PORTS = (20000, 20001, 20032, 20063, 20064, 20095, 20126, 20127)
_TRANSIT = "198.51.100.129"
_SILENCES_S = (5.0, 10.0, 15.0, 20.0, 25.0, 31.0)
_TAKES_US = 38_000_000
_TOOK = (
    kind.Took("echoes", 2050.0), kind.Took("large-echoes", 2060.0), kind.Took("path", 1240.0),
    kind.Took("names", 90.0), kind.Took("services", 310.0), kind.Took("far-end", 3900.0),
    kind.Took("ports", 1100.0), kind.Took("signalling", 1700.0), kind.Took("translation", 31_500.0),
)  # fmt: skip


def write_check(
    db: sqlite3.Connection, site: DemoSite, ids: Ids, at: datetime, end: datetime, rng: np.random.Generator
) -> None:
    """A check asked for at that time, and its result as the probe told it."""
    at_us = round(at.timestamp() * 1e6)
    result = read(kind.CheckResult, plain(_Found(site, ids, Weather(site, end), at_us, rng).result()), "The result")
    with writing(db):
        job = job_store.add(
            db, ids.site, ids.probe, "check", "Requested.", arguments=plain(Asked(ids.far_end)), at_us=at_us - 2_000_000
        )
        job_store.move(db, job, "taken", "", at_us - 1_000_000)
        job_store.move(db, job, "running", "", at_us)
        job_store.keep_result(db, job, plain(result))
        job_store.move(db, job, "done", "", at_us + _TAKES_US)


class _Found:
    def __init__(self, site: DemoSite, ids: Ids, weather: Weather, at_us: int, rng: np.random.Generator) -> None:
        self._site, self._weather, self._at_us, self._rng = site, weather, at_us, rng
        assert site.up is not None
        assert site.down is not None
        self._gateway, self._edge, self._far = gateway_of(ids.site), edge_of(ids.site), site.far_end[2]
        self._own = self._gateway.rsplit(".", 1)[0] + f".{ids.site * 16 + 9}"
        self._line_ms = site.up.base_ms + site.down.base_ms
        self._jitter_ms = site.up.jitter_ms + site.down.jitter_ms

    def result(self) -> kind.CheckResult:
        stack = kind.StackFacts(
            (f"eth0 {self._own}/28",), self._gateway, "eth0", self._site.medium, 1500, (RESOLVER,),
            -63 if self._site.medium == "Wi-Fi" else None,
        )  # fmt: skip
        ports = tuple(one for one in ASKED_PORTS if one not in self._site.closed_ports)
        return kind.CheckResult(
            far_address=self._far,
            stack=stack,
            edge=self._edge,
            echoes=self._echoes(SMALL_BYTES),
            large_echoes=self._echoes(LARGE_BYTES),
            path=self._path(),
            names=tuple(
                kind.NameFacts(RESOLVER, name, "udp", round(self._rtt(4.0), 1), 0, (self._far,)) for name in NAMES
            ),
            services=tuple(kind.ServiceFacts(one, "open", round(self._rtt(6.0), 1), trusted=True) for one in SERVICES),
            reach=kind.ReachFacts(round(self._rtt(1.1), 1), None, key_fits=True),
            media=tuple(self._call(dscp) for dscp in (EF, 34, 0)),
            took=_TOOK,
            translation=TranslationFacts(
                self._own, 40_010, tuple(Mapped(port, self._gateway, 61_440) for port in ASKED_PORTS[:2]),
                tuple(Kept(silent_s, heard=True) for silent_s in _SILENCES_S),
            ),
            signalling=SignallingFacts(talk(self._own, self._gateway, self._far, self._site.sip_helper)),
            ports=kind.PortsFacts(ASKED_PORTS, ports, ports),
        )  # fmt: skip

    def _rtt(self, more_ms: float) -> float:
        return self._line_ms + more_ms + 0.5 + float(self._rng.exponential(self._jitter_ms))

    def _echoes(self, size: int) -> tuple[kind.EchoFacts, ...]:
        places: Sequence[tuple[kind.Role, str, float, bool]] = (
            ("gateway", self._gateway, 0.0, False),
            ("edge", self._edge, 0.45, True),
            *(("outside", address, 1.0, True) for address in OUTSIDE),
            ("far-end", self._far, 1.0, True),
        )
        at_us = np.full(ECHOES, self._at_us)
        found = []
        for role, address, share, crosses in places:
            lost = self._rng.random(ECHOES) < (self._weather.share_lost(at_us, size) if crosses else 0.0)
            rtt = tuple(
                round(0.6 + share * self._line_ms + float(self._rng.exponential(0.2 + share * self._jitter_ms)), 2)
                for _ in range(int(np.sum(~lost)))
            )
            found.append(kind.EchoFacts(role, address, size, ECHOES, len(rtt), rtt, ttl=57))
        return tuple(found)

    def _path(self) -> PathFacts:
        """What routers quote of the marking is what had become of it by then."""
        kept = EF if self._site.marking_up else 0
        hops = (
            (self._gateway, 0.0, kept), (self._edge, 0.45, kept), (_TRANSIT, 0.9, kept), (self._far, 1.0, kept)
        )  # fmt: skip
        return PathFacts(
            self._far, MEDIA_PORTS[0], EF,
            tuple(
                HopFacts(
                    ttl, address, (), 5,
                    tuple(round(0.6 + share * self._line_ms + float(self._rng.exponential(0.3)), 2) for _ in range(5)),
                    dscp,
                )
                for ttl, (address, share, dscp) in enumerate(hops, 1)
            ),
            reached=True, sees_marking=True,
        )  # fmt: skip

    def _call(self, dscp: int) -> kind.MediaFacts:
        up = dscp if self._site.marking_up else 0
        return kind.MediaFacts(
            dscp, bound=True, sent_up=CALL_PACKETS, sent_down=CALL_PACKETS, received_up=CALL_PACKETS,
            received_down=CALL_PACKETS, marks_up=(kind.MarkCount(up, CALL_PACKETS),),
            marks_down=(kind.MarkCount(dscp, CALL_PACKETS),), rtt_ms=round(self._rtt(1.1), 2),
        )  # fmt: skip
