"""The line filled with calls beside it, judged: figures, the leg that queues, causes, what it means for calls."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import LEG_WORDS, PROVIDER, ROUTER, CauseKey, LegName
from tarnfell.core.line.measure import Held, instants_of, phases_of, seconds_of, settled, steadiness
from tarnfell.core.line.values import SIDES, FillLimits, LineCause, LineFilled, PhaseFigures, Side, SideFigures
from tarnfell.wire.kinds.fill import Echoes, FillPhase, Place

QUEUE_MS = 30.0
"""Added to nineteen packets in twenty: from there on a queue explains what a call lost."""
QUIET_MS = 20.0
"""Less than this is no queue."""
POLICED_PCT = 0.5
"""Lost under load, of the unmarked call's packets or of TCP's bytes."""
FULL_OF_CALLS_MS, FULL_OF_CALLS_PCT = 50.0, 1.0
IDLE_LOSS_PCT = 0.2
QUEUE_LOSS_PCT = 1.0
FLAT = 0.6
"""The slowest second over the mean of a flat ceiling."""
KEPT_PCT = 90.0
"""Of the marked call's packets: from there on its marking is taken to arrive."""
SPARED_MOS, LITTLE_MOS = 0.5, 0.1
"""By which the marked call must be better where marking is honoured, and from where on a difference may be more than
chance."""
WAITS_SHARE = 0.5
"""Of what the unmarked call waits: a marked one that waits so long stands in the same queue."""
LEG_SHARE = 0.6
NOTICED_S = 2.0
"""The ends tell each other once a second how it goes."""
LEAST_ECHOES = 8
WAY = {"up": "upload", "down": "download"}
LINK = {"up": "uplink", "down": "downlink"}


@dataclass(frozen=True)
class Filled:
    """All that a run told."""

    held: Held
    phases: Sequence[FillPhase]
    echoes: Sequence[Echoes] = ()
    ceiling: bool = False
    """The streams were kept below a rate."""
    spoiled: tuple[str, ...] = ()
    """What the ends say against themselves."""
    calls_kbps: float = 0.0
    """Each way, at IP: the two calls beside the streams."""
    cut: str | None = None
    """Why it was broken off."""
    cut_s: float = 0.0

    def is_whole(self, phase: FillPhase) -> bool:
        """Whether it was surely over before the run broke off."""
        return self.cut is None or phase.until_us <= self.held.begun_us + (self.cut_s - NOTICED_S) * 1e6


def judge_filled(run: Filled, limits: FillLimits) -> LineFilled:
    whole = [one for one in run.phases if run.is_whole(one)]
    figures = phases_of(run.held, whole, limits, run.ceiling)
    idle = next((one for one in figures if one.way == "idle"), None)
    causes: list[LineCause] = []
    says: list[str] = []
    for side in SIDES:
        phase = next((one for one in figures if one.way == side), None)
        told = next((one for one in whole if one.way == side), None)
        if idle is None or phase is None or told is None:
            continue
        case = _Case(run, limits, side, idle.side(side), phase, told)
        causes += case.causes()
        says.append(case.sentence())
    if run.cut is not None:
        says.insert(0, _broken_off(run))
    elif not says:
        says.append("Neither direction was filled by itself to the end: nothing follows for calls.")
    until_s = max([run.held.length_s, *(one.until_s for one in figures)])
    return LineFilled(
        phases=figures,
        causes=tuple(causes),
        says=tuple(says),
        spoiled=run.spoiled,
        moved_bytes=sum(sum(one.up) + sum(one.down) for one in run.phases),
        instants=instants_of(run.held, until_s),
        seconds=seconds_of(run.held),
    )


def _broken_off(run: Filled) -> str:
    """A line that dies while it is filled says something by that."""
    at_us = run.held.begun_us + (run.cut_s - NOTICED_S) * 1e6
    during = next((one.way for one in run.phases if one.until_us > at_us), None)
    while_ = f" while {_DURING[during]} or soon after" if during else ""
    return f"The run was broken off{while_}: {run.cut} What was surely over by then is judged."


_DURING = {
    "idle": "the line was idle", "up": "upload was filled", "down": "download was filled",
    "both": "both directions were filled",
}  # fmt: skip


class _Case:
    """One direction, while it was filled by itself."""

    def __init__(
        self, run: Filled, limits: FillLimits, side: Side, idle: SideFigures, phase: PhaseFigures, told: FillPhase
    ) -> None:
        self.run, self.limits, self.side, self.idle, self.phase, self.told = run, limits, side, idle, phase, told
        self.now = phase.side(side)

    def causes(self) -> list[LineCause]:
        small = self._small()
        if small:
            return [small]
        if not self._calls_good_when_idle():
            return []
        queue = self._queue()
        if queue:
            ignored = self._ignored()
            return [queue, ignored] if ignored else [queue]
        policed = self._policed()
        return [policed] if policed else []

    def _calls_good_when_idle(self) -> bool:
        return self.idle.mos is not None and self.idle.mos >= self.limits.target_mos

    def _full_of_calls(self) -> bool:
        """Calls alone overflow it: they queue before any stream has begun, and some of their packets find no room."""
        return (self.idle.standing_ms or 0.0) >= FULL_OF_CALLS_MS and (self.idle.loss_pct or 0.0) >= FULL_OF_CALLS_PCT

    def _carried_kbps(self) -> float:
        """Streams and calls together, at IP."""
        arrived = 1 - (self.now.loss_pct or 0.0) / 100
        return (self.now.throughput_ip_kbps or 0.0) + self.run.calls_kbps * arrived

    def _small(self) -> LineCause | None:
        """Not even all that it carries would do for the calls that are needed."""
        carried, need = self._carried_kbps(), max(self.limits.need_kbps, self.run.calls_kbps)
        if self.run.ceiling or carried >= need or not (self.now.filled or self._full_of_calls()):
            return None
        says = (
            f"Filled {WAY[self.side]}, the path carries {carried:.0f} kbit/s at IP, calls among it; "
            f"the calls needed at once take {need:.0f} kbit/s each way."
        )
        key: CauseKey = "uplink-small" if self.side == "up" else "downlink-small"
        return LineCause(
            key, self._leg()[0], self.side, f"The line is too small for its calls ({WAY[self.side]})", says,
            (
                "Not a queue alone: however it is shared out, the rate does not suffice.",
                "Traffic of others that fills the line all the time would look the same: repeat it when nobody works.",
            ),
            f"A line with at least {need / 0.75:.0f} kbit/s {WAY[self.side]}, or a codec that needs less.", PROVIDER,
        )  # fmt: skip

    def _queue(self) -> LineCause | None:
        added, mos = self.now.delay_added_p95_ms, self.now.mos
        if added is None or added < QUEUE_MS or mos is None or mos >= self.limits.target_mos:
            return None
        leg, seen = self._leg()
        key: CauseKey = "uplink-queue" if self.side == "up" else "downlink-queue"
        if leg == "inside":
            key = "inside-congested"
        elif leg == "beyond":
            key = "beyond-congested"
        marked = self.now.mos_marked
        spared = marked is not None and marked >= self.limits.target_mos and self._helps(mos, marked) is True
        says = (
            f"Filled {WAY[self.side]}, {LEG_WORDS[leg]} packets queue: {added:.0f} ms are added (95th percentile), "
            f"and a call without marking falls from {self.idle.mos:.2f} to {mos:.2f} MOS."
            + (f" A marked call stays at {marked:.2f}." if spared else "")
        )
        remedy = (
            "Marked calls pass the queue: see to it that every phone and application marks its media EF (DSCP 46)."
            if spared
            else f"At the router towards the line: shape {WAY[self.side]} to 90–95 % of its rate "
            f"({_rate(0.9 * self._carried_kbps())} to {_rate(0.95 * self._carried_kbps())} at IP) "
            "with a fair queue, EF-marked media first."
        )
        return LineCause(
            key, leg, self.side, f"A full {WAY[self.side]} queues calls", says,
            (
                self._beside_the_queue(),
                f"Not the other direction: the run filled {WAY[self.side]} alone.",
                *seen,
            ),
            remedy, ROUTER,
        )  # fmt: skip

    def _beside_the_queue(self) -> str:
        lost = self.now.loss_pct or 0.0
        if lost < QUEUE_LOSS_PCT:
            return f"Not loss: {lost:.1f} % of the call’s packets were lost while it was full."
        return f"{lost:.1f} % of the call’s packets were lost as well, as a queue does that has no room left."

    def _ignored(self) -> LineCause | None:
        """Marking makes no difference in the queue, though it arrives."""
        mos, marked, kept = self.now.mos, self.now.mos_marked, self.now.marking_kept_pct
        if mos is None or marked is None or marked >= self.limits.target_mos or self._helps(mos, marked) is not False:
            return None
        if kept is not None and kept < KEPT_PCT:
            return self._unmarked(kept)
        arrives = (
            f"{kept:.0f} % of its packets arrived marked"
            if kept is not None
            else "its marking could not be seen arrive"
        )
        says = (
            f"Filled {WAY[self.side]}, a call marked EF has {marked:.2f} MOS and one without marking {mos:.2f}: "
            f"marking does not help ({arrives})."
        )
        return LineCause(
            "priority-ignored", self._leg()[0], self.side, f"Priority is not honoured ({WAY[self.side]})", says,
            ("Not the calls: both were held at once, over the same path.",),
            "Give EF-marked media a queue of its own where packets queue: at the router towards the line first.",
            ROUTER,
        )  # fmt: skip

    def _helps(self, mos: float, marked: float) -> bool | None:
        """Whether marking spares a call; None where that is not clear."""
        if marked - mos >= SPARED_MOS:
            return True
        return False if marked - mos < LITTLE_MOS or self._waits_alike() else None

    def _waits_alike(self) -> bool:
        """The marked call stands in the queue too, whatever chance let it lose there."""
        plain_ms, marked_ms = self.now.delay_added_p50_ms, self.now.marked_added_p50_ms
        if plain_ms is None or marked_ms is None or plain_ms < QUIET_MS:
            return False
        return marked_ms >= WAITS_SHARE * plain_ms

    def _unmarked(self, kept: float) -> LineCause:
        """Nobody can honour what does not arrive."""
        says = (
            f"Filled {WAY[self.side]}, a call marked EF fares no better than one without marking: only {kept:.0f} % of "
            "its packets arrived marked as sent."
        )
        return LineCause(
            "marking-changed", "unknown", self.side, f"Priority marking does not arrive ({WAY[self.side]})", says,
            ("Whether a queue would honour it is not known while it is taken off on the way.",),
            "Have the router and the provider leave DSCP as it is; then fill the line again.", ROUTER,
        )  # fmt: skip

    def _policed(self) -> LineCause | None:
        lost, resent = self.now.loss_pct or 0.0, self.now.retransmitted_pct or 0.0
        added, flat = self.now.delay_added_p95_ms, self._flat()
        if max(lost, resent) < POLICED_PCT or (self.idle.loss_pct or 0.0) > IDLE_LOSS_PCT:
            return None
        if added is None or added >= QUIET_MS or flat is None or flat < FLAT:
            return None
        if lost < POLICED_PCT and (self.now.tcp_queued_ms is None or self.now.tcp_queued_ms >= QUIET_MS):
            return None  # TCP fills a queue of its own and loses its own packets there
        leg = self._leg()[0]
        says = (
            f"Filled {WAY[self.side]}, {lost:.1f} % of a call’s packets and {resent:.1f} % of TCP’s bytes are dropped "
            f"while at most {max(0.0, added):.0f} ms are added and the rate stands at "
            f"{self.now.throughput_kbps or 0:.0f} kbit/s: packets beyond a rate are dropped, not queued."
        )
        return LineCause(
            "policed", leg, self.side, f"Packets beyond a rate are dropped ({WAY[self.side]})", says,
            (
                "Not a faulty link: the idle line loses "
                f"{self.idle.loss_pct or 0:.1f} %. A very short queue would look the same.",
            ),
            f"Shape {WAY[self.side]} at the router just below this rate, EF-marked media first, so that nothing "
            "reaches the policer beyond it.",
            ROUTER,
        )  # fmt: skip

    def _flat(self) -> float | None:
        return steadiness(self.told.up if self.side == "up" else self.told.down, self.told)

    def _leg(self) -> tuple[LegName, tuple[str, ...]]:
        """Where packets queue, by echoes to places on the way; and what was seen of it."""
        added = self.phase.added_delay_p50_ms
        if added is None or added < QUIET_MS:
            return "unknown", ()
        excess = {one.place: found for one in self.run.echoes if (found := self._excess(one)) is not None}
        seen = tuple(f"The {_NAMES[place]} answers {found:+.0f} ms (median)." for place, found in excess.items())
        gateway, edge = excess.get("gateway"), excess.get("edge")
        # A place can be slow to answer for itself: no more is taken from it than what lies beyond shows as well.
        if edge is not None:
            edge = min(edge, added)
        if gateway is not None:
            gateway = min(gateway, added, edge if edge is not None else added)
        if gateway is not None and gateway >= LEG_SHARE * added:
            return "inside", seen
        if edge is not None and edge - max(0.0, gateway or 0.0) >= LEG_SHARE * added:
            return ("line" if gateway is not None else "inside or line"), seen
        if edge is not None and added - edge >= LEG_SHARE * added:
            return "beyond", seen
        return "unknown", seen

    def _excess(self, echoes: Echoes) -> float | None:
        """By how much an address answers later than over the idle line, medians, ms."""
        idle = next((one for one in self.run.phases if one.way == "idle"), None)
        medians = []
        for phase in (idle, self.told):
            if phase is None:
                return None
            lo, hi = settled(phase)
            pairs = zip(echoes.at_us, echoes.rtt_us, strict=True)
            inside = [rtt for at, rtt in pairs if lo <= at < hi and rtt >= 0]
            if len(inside) < LEAST_ECHOES:
                return None
            medians.append(float(np.median(inside)) / 1000)
        return medians[1] - medians[0]

    def sentence(self) -> str:
        """What it means for calls."""
        way, mos, marked = WAY[self.side], self.now.mos, self.now.mos_marked
        if self.told.failure and self.now.throughput_kbps is None:
            return f"{way.capitalize()} could not be filled: {self.told.failure}"
        if self.idle.mos is None or mos is None:
            return f"What a full {way} does to calls is not known: too few packets of theirs were sent."
        if self._small():
            return f"{way.capitalize()} is too small for the calls it is to carry, whatever else is on it."
        if not self._calls_good_when_idle():
            return (
                f"{way.capitalize()} has calls below {self.limits.target_mos:.1f} MOS on the idle line already "
                f"({self.idle.mos:.2f}): find out why before the load is looked at."
            )
        if not self.now.filled:
            return (
                f"{way.capitalize()} was not seen to be full: {self.now.throughput_kbps or 0:.0f} kbit/s moved without "
                f"a queue{_LIMITED.get(self.now.limited_by or '', '')}; calls had {mos:.2f} MOS (idle "
                f"{self.idle.mos:.2f}).{f' {self.told.failure}' if self.told.failure else ''}"
            )
        if mos >= self.limits.target_mos:
            return f"A full {way} leaves calls at {mos:.2f} MOS (idle {self.idle.mos:.2f}): it does not hurt them."
        fall = f"from {self.idle.mos:.2f} to {mos:.2f} MOS"
        if marked is None:
            return f"A full {way} takes calls {fall}."
        helps = self._helps(mos, marked)
        if helps and marked >= self.limits.target_mos:
            return (
                f"A full {way} takes an unmarked call {fall}; a marked one stays at {marked:.2f}: priority is honoured."
            )
        if helps:
            return f"A full {way} takes calls {fall}; marking helps and is not enough ({marked:.2f})."
        if helps is None:
            return f"A full {way} takes an unmarked call {fall}, a marked one to {marked:.2f}: too little to tell."
        alike = ": a marked call waits as long" if self._waits_alike() else ""
        return f"A full {way} takes calls {fall}; marking does not help{alike} ({marked:.2f})."


_NAMES: dict[Place, str] = {"gateway": "gateway", "edge": "provider’s edge"}
_LIMITED = {
    "ceiling": ", because the site’s ceiling kept the streams below",
    "receiver": ", because the receiving end took no more",
    "sender": ", because the sending end gave no more",
}


def _rate(kbps: float) -> str:
    """Three figures: what a fill tells of a line is no better."""
    three = float(f"{kbps:.3g}")
    return f"{three:g} kbit/s" if three < 1000 else f"{three / 1000:g} Mbit/s"
