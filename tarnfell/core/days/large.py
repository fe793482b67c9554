"""Large packets against small ones of the same minutes: a link that loses the large, or lets none of them through.

Video is made of large packets and voice of small ones, so that one breaks where the other is fine. A place tells of the
packets that reach it and come back; a router that lets large echoes for itself go unanswered passes them on, so that
what reaches a place is lost no more than at the best of that place and all beyond it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tarnfell.core.causes import FIREWALL, LEG_WORDS, PROVIDER, CauseKey, LegName
from tarnfell.core.days.findings import Finding, name_of
from tarnfell.core.days.rounds import Ints, Place
from tarnfell.core.figures import count
from tarnfell.core.legs import DEPTH

FEWEST = 200
"""Large packets to a place before anything is said of them."""
ERRORS = 3.0
"""Standard errors by which more of them must be lost than of small ones. Errors are taken from how blocks of minutes
differ: what happened in one or two of them alone is never enough."""
NOTICEABLE_PCT = 0.5
"""Points more than of small ones: from there on pictures break."""
HOLE_PCT = 98.0
"""Lost of large ones, while small ones pass: no loss any more, but a hole."""
PASSES_PCT = 50.0


@dataclass(frozen=True)
class Sizes:
    """Samples of two sizes, counted over the same blocks of time; each of shape (places, blocks)."""

    large_bytes: int
    """On the line, IP's header in it."""
    small_sent: Ints
    small_lost: Ints
    large_sent: Ints
    large_lost: Ints


@dataclass(frozen=True)
class _Excess:
    """What large packets to a place lost more than small ones, in percent of points, with its standard error."""

    pct: float
    error: float
    large_pct: float
    small_pct: float
    large_sent: int

    @property
    def is_more(self) -> bool:
        return self.pct >= NOTICEABLE_PCT and self.pct > ERRORS * self.error


def large_findings(places: Sequence[Place], sizes: Sizes) -> list[Finding]:
    """One at the most: of the nearest place from which on large packets are lost."""
    told = {i: one for i in range(len(places)) if (one := _excess(sizes, i)) is not None}
    reached = {
        i: min((told[j] for j in told if j == i or DEPTH[places[j].role] > DEPTH[places[i].role]), key=lambda e: e.pct)
        for i in told
    }
    worse = [i for i in sorted(reached, key=lambda i: DEPTH[places[i].role]) if reached[i].is_more]
    if not worse:
        return []
    nearest = worse[0]
    # What lies as far away and does not lose them tells that the fault is on a way of its own.
    level = [i for i in reached if DEPTH[places[i].role] == DEPTH[places[nearest].role]]
    spared = [i for i in level if not reached[i].is_more]
    leg = _leg(places, reached, nearest)
    return [_finding(places, told[nearest], nearest, leg, spared, sizes.large_bytes)]


def _excess(sizes: Sizes, place: int) -> _Excess | None:
    """None where too few of either size were sent."""
    sent, lost = sizes.large_sent[place], sizes.large_lost[place]
    small_sent, small_lost = sizes.small_sent[place], sizes.small_lost[place]
    both = (sent > 0) & (small_sent > 0)
    asked, others = int(sent[both].sum()), int(small_sent[both].sum())
    if asked < FEWEST or others < FEWEST:
        return None
    # Each block's large packets against what its own small ones lead to expect: an outage loses both alike.
    expected = sent[both] * small_lost[both] / small_sent[both]
    more = lost[both] - expected
    large_pct, small_pct = 100 * lost[both].sum() / asked, 100 * small_lost[both].sum() / others
    error = 100 * float(np.sqrt(np.sum(more**2))) / asked
    return _Excess(100 * float(more.sum()) / asked, error, float(large_pct), float(small_pct), asked)


def _leg(places: Sequence[Place], reached: dict[int, _Excess], nearest: int) -> LegName:
    """Where it begins: the leg before the nearest place, if the place before that is known to be spared."""
    spared = {places[i].role for i in reached if not reached[i].is_more}
    role = places[nearest].role
    if role == "gateway":
        return "inside"
    if role == "edge":
        return "line" if "gateway" in spared else "inside or line"
    return "beyond" if "edge" in spared else "unknown"


def _finding(
    places: Sequence[Place], one: _Excess, nearest: int, leg: LegName, spared: list[int], large_bytes: int
) -> Finding:
    is_hole = one.large_pct >= HOLE_PCT and one.small_pct <= PASSES_PCT
    key: CauseKey = "mtu-hole" if is_hole else "large-packets-lost"
    lost = "None came" if one.large_pct >= 100 else f"{one.large_pct:.1f} % were lost"
    says = (
        f"Of {count(one.large_sent)} packets of {large_bytes} bytes to {name_of(places[nearest])}: {lost}, "
        f"of small ones in the same minutes {one.small_pct:.1f} %, {LEG_WORDS[leg]}."
    )
    if spared:
        says += f" {_begin(name_of(places[spared[0]]))} gets them whole."
    if is_hole:
        remedy = "Let ICMP “packet too big” through, or lower the MTU (or the TCP MSS) at the gateway."
        return Finding(key, leg, "both", "Large packets vanish", says, remedy, FIREWALL)
    remedy = (
        "Look for fragments and for a smaller MTU on this leg, and at what its radio or its error correction does with "
        "long frames; pictures are made of packets of this size, voice is not."
    )
    return Finding(key, leg, "both", "Large packets are lost more than small ones", says, remedy, PROVIDER)


def _begin(words: str) -> str:
    return words[0].upper() + words[1:]
