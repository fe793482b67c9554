"""What is said beside a queue, a loss and lateness, with the figures that it rests on."""

from __future__ import annotations

import pytest

from tarnfell.core.verdict.case import _chance
from tests.core.verdict.made_up import LOSS, QUEUE, cells, held, judged, runs

AT = cells()
QUEUED_MS = 280.0
"""What QUEUE adds to the delay of an idle way, 20 ms."""


def alternatives(other_ms: float) -> list[str]:
    """Of calls whose upload queues, while their download gains so much."""
    facts = runs(AT[:200]) + runs(AT[200:], up=QUEUE, down={"delay_p50_ms": 20.0 + other_ms}) + held()
    (cause,) = [one for one in judged(facts).causes if one.key == "uplink-queue"]
    return list(cause.alternatives)


@pytest.mark.parametrize(
    ("other_ms", "words"),
    [
        (0.0, "gained 0 ms (median): it is one direction’s queue."),
        (QUEUED_MS / 2 - 1, "gained 139 ms (median): it is one direction’s queue."),
        (QUEUED_MS / 2, "gained 140 ms (median): both directions queue together."),
    ],
)
def test_half_as_much_the_other_way_is_the_same_queue(other_ms: float, words: str) -> None:
    assert any(line.endswith(words) for line in alternatives(other_ms)), alternatives(other_ms)


def test_a_queue_is_told_by_what_it_added_and_not_by_distance() -> None:
    told = alternatives(0.0)
    assert told[0] == f"Not distance: {QUEUED_MS:.0f} ms of the delay comes and goes (median); distance does not."
    assert told[1].startswith("0.0 % of these calls’ packets were lost")


@pytest.mark.parametrize(
    ("bad_runs", "good_runs", "spells", "key"),
    [
        (1, 0, 0, "policed"),
        (1, 1, 12, "line-loss"),  # 4 % of the site's runs are hit: one of two may be
        (2, 0, 12, "policed"),
    ],
)
def test_a_few_runs_of_more_calls_may_have_met_trouble_of_its_own_times(
    bad_runs: int, good_runs: int, spells: int, key: str
) -> None:
    facts = runs(AT[spells : 300 - bad_runs - good_runs]) + runs(AT[:spells], down=LOSS)
    facts += runs(AT[300 - bad_runs - good_runs : 300 - good_runs], calls=8, down=LOSS)
    facts += runs(AT[300 - good_runs :], calls=8) if good_runs else []
    assert {one.key for one in judged(facts).causes} == {key}


@pytest.mark.parametrize(
    ("at", "below", "chance"),
    [
        # One unseen run that suffered and one that did not are allowed for: 1 of 8, four times over.
        ([[True]] * 4, [[False]] * 6, 0.125**4),
        # At least three of four, at 2 of 8.
        ([[True]] * 3 + [[False]], [[False]] * 5 + [[True]], 4 * 0.25**3 * 0.75 + 0.25**4),
        # A run suffers where half of its calls do.
        ([[True, False]], [[True, False, False]], 1 / 3),
        ([[False]] * 5, [[False]] * 5, 1.0),
    ],
)
def test_the_chance_that_a_load_has_nothing_to_do_with_it(
    at: list[list[bool]], below: list[list[bool]], chance: float
) -> None:
    assert _chance(at, below) == pytest.approx(chance)
