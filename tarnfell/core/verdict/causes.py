"""A cause as it is told: what, where, how far it is supported, what mends it, who acts.

Where calls alone were placed the leg is not known, and neither title nor alternatives say more than the figures do.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Literal

from tarnfell.core.causes import FIREWALL, LEG_WORDS, NETWORK, PROVIDER, WAY_WORDS, CauseKey, Direction, LegName, Way
from tarnfell.core.verdict.facts import Brief

Dimension = Literal["voice", "video", "capacity", "steadiness", "load", "reachability", "marking"]


Weight = Literal["first", "", "last"]
"""Where the consultant puts a cause; empty: where the evidence has it."""

CauseName = tuple[CauseKey, LegName, Way]
"""What tells one cause of a site from every other."""


@dataclass(frozen=True)
class Wording:
    """What may be said of a cause in other words than the evidence's own."""

    title: str
    remedy: str
    who: str


@dataclass(frozen=True)
class Cause:
    """One cause at one site. Texts are for the customer's eyes; every sentence carries its figure."""

    key: CauseKey
    leg: LegName
    direction: Way
    title: str
    says: tuple[str, ...]
    """What was seen."""
    alternatives: tuple[str, ...]
    """What else was considered, with the figure that speaks against it or leaves it open."""
    remedy: str
    who: str
    gain: str
    calls_hit: int
    calls: int
    cost: dict[Dimension, float] = field(default_factory=dict)
    """What it took of each dimension, in any unit that is the same for all causes of a site."""
    of: str = "calls"
    """What was hit: calls, or video streams."""
    call_ids: tuple[int, ...] = ()
    """The calls that show it best, worst first."""
    stream_ids: tuple[int, ...] = ()
    """The video streams that show it best, worst first."""
    network: bool = True
    """False for what is not the network's fault, such as a probe that disturbed itself."""
    note: str = ""
    """The consultant's own."""
    weight: Weight = ""
    as_found: Wording | None = None
    """What the evidence said, where any words of the consultant stand in its place."""

    @property
    def named(self) -> CauseName:
        return self.key, self.leg, self.direction

    @property
    def headline(self) -> str:
        """Its title, with how many it hit where something counted tells of it."""
        return f"{self.title} ({self.calls_hit} of {self.calls} {self.of})" if self.calls_hit else self.title

    @property
    def decided(self) -> tuple[str, ...]:
        """What of it is the consultant's, for whoever reads it."""
        said = [f"Put {self.weight} by the consultant, whatever points it took."] if self.weight else []
        if self.as_found:
            for words, name in (("Heading", "title"), ("Remedy", "remedy"), ("Who acts", "who")):
                found = getattr(self.as_found, name)
                if found != getattr(self, name):
                    said.append(f"{words} as found: {found.rstrip('.')}.")
        return tuple(said)

    @property
    def place(self) -> str:
        return f"{WAY_WORDS[self.direction]}, {LEG_WORDS[self.leg]}"


Pair = tuple[int, Direction]
"""A call by its number, and one direction of it."""


@dataclass(frozen=True)
class Shown(Cause):
    """A cause that calls have shown, while it may still be joined to what something else tells of it."""

    open_legs: str = ""
    """What would tell legs apart that are not; it goes among the alternatives unless something else tells them."""
    bad: frozenset[Pair] = frozenset()
    """All that it hit."""

    def settled(self) -> Cause:
        """As it is told in the end."""
        told = {f.name: getattr(self, f.name) for f in fields(Cause)}
        return Cause(**told | {"alternatives": (*self.alternatives, *([self.open_legs] if self.open_legs else []))})


def owner(brief: Brief, leg: LegName) -> str:
    """Who acts, by the name in the brief where there is one."""
    switches = brief.switches_by or NETWORK
    line = brief.line_by or PROVIDER
    if leg == "inside":
        return switches
    if leg in ("line", "beyond"):
        return line
    return switches if switches == line else f"{switches}, then {line}"


def firewall_owner(brief: Brief) -> str:
    return brief.firewall_by or FIREWALL
