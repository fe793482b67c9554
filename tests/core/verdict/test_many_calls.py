"""What an evaluation does grows as the calls do, and no faster: counted, since no clock tells it on a busy machine."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.core.verdict.site import evaluate_site
from tests.core.verdict.made_up import BRIEF
from tests.core.verdict.test_told import CONGESTED, PORTS, squeezed


class Counted(int):
    """A call's number; each look into a set or a table by it is counted."""

    looks = 0

    def __hash__(self) -> int:
        Counted.looks += 1
        return int.__hash__(self)


def looks(times: int) -> int:
    """By calls' numbers, for a week whose calls at noon queue, with so many runs at each moment."""
    facts = [
        replace(fact, call_id=Counted(fact.call_id + 10_000 * n), run_id=fact.run_id + 10_000 * n)
        for n in range(times)
        for fact in squeezed()
    ]
    Counted.looks = 0
    found = evaluate_site(facts, BRIEF, told=[CONGESTED, PORTS])
    assert found.faults
    assert found.verdict.calls == len(facts) // 2
    return Counted.looks


def test_eight_times_the_calls_are_about_eight_times_the_looks() -> None:
    assert 0 < looks(8) < 10 * looks(1)
