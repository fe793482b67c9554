"""What a probe can be asked to do that ends: a kind each, with its arguments, its result and its lane.

Probe and server read both by the same classes. A lane says what may go on at once: of what loads the line one thing at
a time, with light work beside it; what changes the program itself waits until nothing else is on.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Optional

from tarnfell.wire.kinds.answer import AnswerArguments, AnswerResult
from tarnfell.wire.kinds.calls import CallsArguments
from tarnfell.wire.kinds.check import CheckArguments, CheckResult
from tarnfell.wire.kinds.distances import DistancesArguments, DistancesResult
from tarnfell.wire.kinds.fill import FillArguments, FillResult
from tarnfell.wire.kinds.flow import FlowArguments, FlowResult
from tarnfell.wire.kinds.look import LookArguments, LookResult
from tarnfell.wire.kinds.services import ServicesArguments, ServicesResult
from tarnfell.wire.kinds.update import UpdateArguments, UpdateResult

Lane = Literal["line", "light", "alone"]
Name = Literal["calls", "check", "fill", "flow", "look", "services", "distances", "answer", "silence", "update", "end"]


@dataclass(frozen=True)
class Nothing:
    """Of kinds that need no arguments, or tell nothing."""


@dataclass(frozen=True)
class Kind:
    name: Name
    lane: Lane
    arguments: type
    result: Optional[type]
    """None: a record of packets."""


KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Kind("calls", "line", CallsArguments, None),
        Kind("check", "light", CheckArguments, CheckResult),
        Kind("fill", "line", FillArguments, FillResult),
        Kind("flow", "line", FlowArguments, FlowResult),
        Kind("look", "light", LookArguments, LookResult),
        Kind("services", "light", ServicesArguments, ServicesResult),
        Kind("distances", "light", DistancesArguments, DistancesResult),
        Kind("answer", "light", AnswerArguments, AnswerResult),
        Kind("silence", "light", Nothing, Nothing),
        Kind("update", "alone", UpdateArguments, UpdateResult),
        Kind("end", "alone", Nothing, Nothing),
    )
}


def may_begin(lane: Lane, under_way: list[Lane]) -> bool:
    """Whether work of this lane may begin beside what is under way."""
    if lane == "alone":
        return not under_way
    return "alone" not in under_way and (lane == "light" or "line" not in under_way)
