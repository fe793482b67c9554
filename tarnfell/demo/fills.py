"""A demo site's line filled: streams that take what it carries, and two calls and time stamps through its queue."""

from __future__ import annotations

import sqlite3
from datetime import datetime

import numpy as np

from tarnfell.core.codecs import find_codec
from tarnfell.demo.calls import EF, Ids, packed
from tarnfell.demo.samples import edge_of, gateway_of
from tarnfell.demo.simulate import Floats, Ints, Way
from tarnfell.demo.truth import DemoSite
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store.db import writing
from tarnfell.store.fills import FillAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.fill import SLOT_MS, Echoes, FillPhase, FillPlan, FillResult, SenderFacts
from tarnfell.wire.kinds.fill import Way as Filled
from tarnfell.wire.record import PackedColumn, Record, join_parts
from tarnfell.work.ingest.fills import judge_next_fill
from tarnfell.work.placing.fill_plan import MARKED_CALL, PLAIN_CALL

EXCHANGE_MS, ECHO_MS = 40, 200
GOODPUT = 0.94
"""Of a line's rate, what is left for the streams' bytes."""
_RISE_S = 1.2
"""In which streams have found the rate, and filled the queue."""
_SAW, _SAW_S = 0.3, 2.4
"""By how much of it CUBIC lets the queue drain, and how long it takes to fill it again."""
_IDLE_QUEUE = 0.02


def write_fill(db: sqlite3.Connection, site: DemoSite, ids: Ids, at: datetime, rng: np.random.Generator) -> None:
    """A fill as its probe told it, judged."""
    at_us = round(at.timestamp() * 1e6)
    asked = FillAsked(ids.far_end, site.values["codec"], int(site.values["ptime_ms"]), FillPlan())
    with writing(db):
        job = job_store.add(
            db, ids.site, ids.probe, "fill", "Requested.", arguments=plain(asked), at_us=at_us - 2_000_000
        )
        job_store.move(db, job, "taken", "", at_us - 1_000_000)
        job_store.move(db, job, "running", "", at_us)
        told = read(FillResult, plain(_Fill(site, ids, asked.plan, at_us, rng).result()), "The result")
        fill_store.keep(db, job, ids.site, asked, told)
        job_store.keep_result(db, job, {})
        job_store.move(db, job, "done", "", at_us + round(asked.plan.length_s * 1e6))
    while judge_next_fill(db):
        pass


class _Fill:
    def __init__(self, site: DemoSite, ids: Ids, plan: FillPlan, at_us: int, rng: np.random.Generator) -> None:
        self._site, self._ids, self._plan, self._at_us, self._rng = site, ids, plan, at_us, rng
        assert site.up is not None
        assert site.down is not None
        self._ways: dict[str, Way] = {"up": site.up, "down": site.down}
        spans: list[tuple[Filled, float, float]] = [("idle", 0.0, plan.idle_s)]
        from_s = plan.idle_s
        for way in plan.ways:
            spans.append((way, from_s, from_s + plan.seconds))
            from_s += plan.seconds + plan.rest_s
        self._spans = spans

    def result(self) -> FillResult:
        phases = tuple(self._phase(*span) for span in self._spans)
        echoes = []
        for place, address, share in (
            ("gateway", gateway_of(self._ids.site), 0.0), ("edge", edge_of(self._ids.site), 1.0)
        ):  # fmt: skip
            at = np.arange(0, self._plan.length_s * 1000, ECHO_MS) / 1000
            rtt = 0.7 + self._rng.exponential(0.2, len(at))
            for way, line in self._ways.items():
                rtt += share * (0.45 * line.base_ms + self._waits(way, at))
            echoes.append(
                Echoes(place, address, _us(self._at_us, at), tuple(np.rint(rtt * 1000).astype(int).tolist()))  # type: ignore[arg-type]
            )
        return FillResult(phases, tuple(echoes), self._record())

    def _phase(self, way: Filled, from_s: float, until_s: float) -> FillPhase:
        slots = {side: self._slots(side, from_s, until_s) if way in (side, "both") else () for side in self._ways}
        senders = {side: self._sender(side, sum(own)) if own else None for side, own in slots.items()}
        from_us, until_us = (self._at_us + round(at * 1e6) for at in (from_s, until_s))
        return FillPhase(way, from_us, until_us, slots["up"], slots["down"], senders["up"], senders["down"])

    def _slots(self, side: str, from_s: float, until_s: float) -> tuple[int, ...]:
        count = round((until_s - from_s) * 1000 / SLOT_MS)
        rise = np.minimum(1.0, (np.arange(count) + 0.5) * SLOT_MS / 1000 / _RISE_S)
        bytes_a_slot = self._ways[side].rate_kbps * GOODPUT * SLOT_MS / 8
        return tuple(np.rint(rise * bytes_a_slot * self._rng.uniform(0.97, 1.0, count)).astype(int).tolist())

    def _sender(self, side: str, moved: int) -> SenderFacts:
        return SenderFacts("cubic", moved, round(0.004 * moved), 0.0, 0.0, 0.9 * self._ways[side].queue_ms)

    def _waits(self, side: str, at_s: Floats) -> Floats:
        """In the queue of one direction: its streams fill it, and let it drain a little each time they lost."""
        line, wait = self._ways[side], np.full(len(at_s), 0.0)
        wait += _IDLE_QUEUE * line.queue_ms * self._rng.random(len(at_s))
        for way, from_s, until_s in self._spans:
            if way in (side, "both"):
                during = (at_s >= from_s) & (at_s < until_s)
                since = at_s[during] - from_s
                saw = 1 - _SAW * ((since / _SAW_S) % 1.0)
                wait[during] = np.minimum(1.0, since / _RISE_S) * line.queue_ms * saw
        return wait

    def _lost(self, side: str, at_s: Floats) -> Ints:
        full = np.zeros(len(at_s), bool)
        for way, from_s, until_s in self._spans:
            if way in (side, "both"):
                full |= (at_s >= from_s + _RISE_S) & (at_s < until_s)
        share = self._ways[side].loss_pct / 100 + np.where(full, 0.003, 0.0)
        return np.flatnonzero(self._rng.random(len(at_s)) >= share)

    def _record(self) -> bytes:
        codec, ptime = find_codec(self._site.values["codec"]), int(self._site.values["ptime_ms"])
        parts = [
            Record({"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False}, self._stamps())
        ]
        count = round(self._plan.length_s * 1000 / ptime)
        size = codec.payload_bytes(ptime) + 12
        for number, dscp in ((PLAIN_CALL, 0), (MARKED_CALL, EF)):
            meta: dict[str, object] = {
                "call": number, "ptime_us": ptime * 1000, "planned_packets": count, "start_us": self._at_us,
                "far_port": 20000 + number, "bound": True,
            }  # fmt: skip
            columns: list[tuple[str, Ints]] = []
            for side, line in self._ways.items():
                at_s = (np.arange(count) * ptime + number * 7 + self._rng.exponential(0.05, count)) / 1000
                delay_ms = line.base_ms + self._waits(side, at_s) + self._rng.exponential(line.jitter_ms, count)
                sent = self._at_us + np.rint(at_s * 1e6).astype(np.int64)
                came = np.maximum.accumulate(sent + np.rint(delay_ms * 1000).astype(np.int64))
                arrived = self._lost(side, at_s)
                same = np.ones(len(arrived), np.int64)
                seen = dscp if self._site.marking_up or side == "down" else 0
                columns += [
                    (f"{side}.sent_us", sent), (f"{side}.arrival_seq", arrived), (f"{side}.arrival_us", came[arrived]),
                    (f"{side}.arrival_dscp", seen * same), (f"{side}.arrival_ttl", 57 * same),
                    (f"{side}.arrival_bytes", size * same),
                ]  # fmt: skip
                meta[side] = {"ssrc": int(self._rng.integers(0, 1 << 32)), "dscp_sent": dscp}
            parts.append(Record(meta, packed(columns)))
        return join_parts(part.serialize() for part in parts)

    def _stamps(self) -> dict[str, PackedColumn]:
        at_s = np.arange(0, self._plan.length_s * 1000, EXCHANGE_MS) / 1000
        t1 = (self._at_us + np.rint(at_s * 1e6).astype(np.int64)) * 1000
        there, back = (
            line.base_ms + self._waits(side, at_s) + self._rng.exponential(line.jitter_ms, len(at_s))
            for side, line in self._ways.items()
        )
        t2 = t1 + np.rint(there * 1e6).astype(np.int64)
        t3 = t2 + 40_000
        t4 = t3 + np.rint(back * 1e6).astype(np.int64)
        return packed([("t1_ns", t1), ("t2_ns", t2), ("t3_ns", t3), ("t4_ns", t4)])


def _us(at_us: int, at_s: Floats) -> tuple[int, ...]:
    return tuple((at_us + np.rint(at_s * 1e6).astype(np.int64)).tolist())
