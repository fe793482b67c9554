"""One call looked at closely, judged by the codec and the listener's buffer that a person chose."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, replace

import numpy as np

from tarnfell.core import streams
from tarnfell.core.clock import ClockRelation
from tarnfell.core.closeup import MAX_POINTS, PacketPoint, Stretch, points_of, stretch_length, stretches_of
from tarnfell.core.codecs import Codec
from tarnfell.core.directions import DirectionFigures
from tarnfell.core.playout import DEFAULT_BUFFER_MS
from tarnfell.core.quality import Criterion, MosLoss, StreamQuality, criterion_for, explain, judge_seconds
from tarnfell.core.streams import Bursts
from tarnfell.store import calls as call_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.answers import Answers
from tarnfell.work.closeup.look import Look
from tarnfell.work.closeup.sounds import Audible, audible
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import Half, JudgedDirection, half_of, judge_record, packets_in
from tarnfell.work.ingest.uploads import figures_of


@dataclass(frozen=True)
class CallSide:
    """One direction. Without packets to judge only ``figures`` and ``why`` say anything."""

    figures: DirectionFigures
    why: str
    """What took how much of its MOS, or why it has none."""
    effective_burst_ratio: float = 1.0
    bursts: Bursts | None = None
    ipdv_p99_ms: float | None = None
    """99th percentile of the change of delay between neighbours, either way (RFC 3393)."""
    mean_depth_ms: float | None = None
    where_it_went: MosLoss | None = None
    seconds: int = 0
    seconds_below: int = 0
    """Below the site's target."""
    stretch_s: int = 1
    """Seconds of each of ``stretches``, but for the last, which may be shorter."""
    stretches: tuple[Stretch, ...] = ()
    packets: tuple[PacketPoint, ...] = ()
    thinned: bool = False
    """Whether packets stands for more than one packet a point."""
    sound: Audible | None = None
    """None where what was sent is not known."""


@dataclass(frozen=True)
class CallCloseUp:
    relation: ClockRelation
    """Of the two ends' clocks, that it was judged by."""
    up: CallSide | None
    """None for a direction in which nothing was to flow."""
    down: CallSide | None

    def side(self, way: str) -> CallSide | None:
        """None of what is no direction, too."""
        return {"up": self.up, "down": self.down}.get(way)


@dataclass(frozen=True)
class CallChoice:
    """What a person may choose; as it stands the usual listener, and the codec that was sent."""

    codec: str | None = None
    buffer_ms: float = DEFAULT_BUFFER_MS
    adaptive: bool = False
    """Whether the buffer follows the delay; ``buffer_ms`` is then its ceiling."""


@dataclass(frozen=True)
class CallLook(Look[CallCloseUp]):
    """A call, and how it is to be judged."""

    at_once = 32_000
    """Five minutes at a packet every 20 ms, both ways, with some to spare."""

    call: StoredCall
    run: Run
    site: Site
    choice: CallChoice
    codec: Codec
    criterion: Criterion

    @property
    def number(self) -> int:
        return self.call.id

    @property
    def packets(self) -> int:
        return packets_in(self.call.record)

    @property
    def depends_on(self) -> object:
        site = self.site
        return self.criterion, self.call.relation, site.target_mos, site.up_kbps, site.down_kbps

    def answer(self) -> CallCloseUp:
        """Whatever time it takes. Raises WireError."""
        relation, half = relation_of(self.call), half_of(self.call.record)
        judged = judge_record(self.call.record, relation, self.criterion)
        sides = {way: _side(one, self.criterion, half, self.site, way) for way, one in judged.items()}
        return CallCloseUp(relation, sides.get("up"), sides.get("down"))


def look_at_call(db: sqlite3.Connection, call: StoredCall, choice: CallChoice) -> CallLook:
    """Raises CodecError."""
    run = run_store.run_by_id(db, call.run_id)
    site = site_store.site_by_id(db, run.site_id)
    codec = codec_of_site(db, site.id, choice.codec or run.codec)
    codec.check_ptime(run.ptime_ms)
    criterion = criterion_for(codec, run.ptime_ms, choice.buffer_ms, choice.adaptive)
    choice = replace(choice, codec=codec.name)  # whether it was said or not it is the same look
    return CallLook(call=call, run=run, site=site, choice=choice, codec=codec, criterion=criterion)


def can_be_heard(db: sqlite3.Connection, call: StoredCall, way: str) -> bool:
    """Whether it is known what was sent in a direction, from what is kept of its figures alone."""
    return not half_of(call.record) and call_store.sent_in(db, call.id, way) > 0


def _found(db: sqlite3.Connection, number: int, choice: CallChoice) -> CallLook:
    return look_at_call(db, call_store.call_by_id(db, number), choice)


CALLS = Answers("close-up of a call", CallCloseUp, CallChoice, _found)


def _side(one: JudgedDirection, criterion: Criterion, half: Half | None, site: Site, way: str) -> CallSide:
    figures, quality, trace = figures_of(one, criterion, half), one.quality, one.trace
    if quality is None or trace is None:
        return CallSide(figures, one.reason or "")
    played = one.played or criterion.play(trace)
    seconds = judge_seconds(trace, criterion, played)
    changes = streams.ipdv_ms(trace)
    length = stretch_length(len(seconds.mos))
    return CallSide(
        figures,
        one.reason or _why(quality, criterion),
        effective_burst_ratio=quality.effective_burst_ratio,
        bursts=streams.bursts(played.missed, criterion.ptime_ms),
        ipdv_p99_ms=float(np.percentile(np.abs(changes), 99)) if len(changes) else None,
        mean_depth_ms=played.mean_depth_ms,
        where_it_went=explain(quality, criterion),
        seconds=len(seconds.mos),
        seconds_below=int(np.count_nonzero(seconds.mos < site.target_mos)),
        stretch_s=length,
        stretches=tuple(stretches_of(seconds, length)),
        packets=tuple(points_of(trace, played)),
        thinned=len(trace) > MAX_POINTS,
        sound=None if half else audible(trace, played, criterion, site, way),
    )


def _why(quality: StreamQuality, criterion: Criterion) -> str:
    lost = explain(quality, criterion)
    if lost is None:
        return "The delay is not known: the MOS is what this direction had at best, with the way’s own delay left out."
    kind = "an adaptive buffer, at most " if criterion.adaptive else "the buffer of "
    causes = {
        "packets lost on the way": lost.loss,
        f"packets later than {kind}{criterion.buffer_ms:.0f} ms": lost.late,
        "delay": lost.delay,
        "the codec itself": lost.codec,
    }
    told = [f"{name} took {value:.2f}" for name, value in sorted(causes.items(), key=lambda c: -c[1]) if value >= 0.02]
    if not told:
        return "Nothing took anything noticeable: this is as good as the codec gets."
    words = ", ".join(told) + " MOS."
    return words[0].upper() + words[1:]
