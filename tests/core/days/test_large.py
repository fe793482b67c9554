"""Large packets against small ones: the leg where they begin to be lost, a hole, and what is no fault of theirs."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest

from tarnfell.core.days.findings import Finding
from tarnfell.core.days.large import Sizes, large_findings
from tarnfell.core.days.rounds import Place
from tarnfell.core.figures import count
from tests.core.days.weeks import PLACES

GATEWAY, EDGE, NEAR, OTHER = (
    Place("gateway", "192.0.2.1"),
    Place("edge", "198.51.100.1"),
    Place("outside", "203.0.113.53"),
    Place("outside", "203.0.113.99"),
)
ALL = (GATEWAY, EDGE, NEAR, OTHER)
BLOCKS, SMALL, LARGE = 144, 480, 120
"""A day of ten minutes, once a second, each fifth a large one."""


def counted(
    large_pct: Sequence[float], small: Sequence[float] = (0.2, 0.2, 0.2, 0.2), seed: int = 3, blocks: int = BLOCKS,
    bad_blocks: slice = slice(None),
) -> Sizes:  # fmt: skip
    """By chance, of each place so many percent; outside ``bad_blocks`` large ones fare as small ones."""
    rng = np.random.default_rng(seed)
    shape = (len(large_pct), blocks)
    small_pct = small[: len(large_pct)]
    large = np.tile(np.array(small_pct)[:, None] / 100, (1, blocks))
    large[:, bad_blocks] = np.array(large_pct)[:, None] / 100
    return Sizes(
        1400,
        np.full(shape, SMALL), rng.binomial(SMALL, np.array(small_pct)[:, None] / 100, shape),
        np.full(shape, LARGE), rng.binomial(LARGE, large),
    )  # fmt: skip


def told(found: list[Finding]) -> list[tuple[str, str]]:
    return [(one.key, one.leg) for one in found]


@pytest.mark.parametrize(
    ("large", "what"),
    [
        ((0.2, 0.2, 0.2, 0.2), []),
        ((3.0, 3.0, 3.0, 3.0), [("large-packets-lost", "inside")]),
        ((0.2, 3.0, 3.0, 3.0), [("large-packets-lost", "line")]),
        ((0.2, 0.2, 3.0, 3.0), [("large-packets-lost", "beyond")]),
        ((0.2, 0.2, 0.2, 3.0), [("large-packets-lost", "beyond")]),
        ((0.2, 100.0, 100.0, 100.0), [("mtu-hole", "line")]),
        # A router that leaves large echoes for itself unanswered passes them on.
        ((0.2, 100.0, 0.2, 0.2), []),
        ((60.0, 0.2, 0.2, 0.2), []),
        ((0.2, 40.0, 3.0, 3.0), [("large-packets-lost", "line")]),
    ],
)
def test_the_leg_is_where_it_begins(large: tuple[float, ...], what: list[tuple[str, str]]) -> None:
    assert told(large_findings(ALL, counted(large))) == what


def test_the_figures_are_in_the_sentence() -> None:
    sizes = counted((0.2, 3.0, 3.0, 3.0))
    (one,) = large_findings(ALL, sizes)
    lost, sent = 100 * sizes.large_lost[1].sum() / (BLOCKS * LARGE), BLOCKS * LARGE
    small = 100 * sizes.small_lost[1].sum() / (BLOCKS * SMALL)
    assert one.says == (
        f"Of {count(sent)} packets of 1400 bytes to the provider’s edge (198.51.100.1): {lost:.1f} % were lost, "
        f"of small ones in the same minutes {small:.1f} %, on the line."
    )
    (hole,) = large_findings(ALL, counted((0.2, 100.0, 100.0, 100.0)))
    assert "None came" in hole.says
    (beyond,) = large_findings(ALL, counted((0.2, 0.2, 0.2, 3.0)))
    assert "203.0.113.53) gets them whole" in beyond.says


def test_what_loses_both_alike_is_no_fault_of_large_packets() -> None:
    """Twelve minutes without a line, and an hour in which a tenth of everything is lost."""
    sizes = counted((0.2, 0.2, 0.2, 0.2))
    sizes.small_lost[1:, 20], sizes.large_lost[1:, 20] = SMALL, LARGE
    rng = np.random.default_rng(5)
    sizes.small_lost[1:, 40:46] = rng.binomial(SMALL, 0.1, (3, 6))
    sizes.large_lost[1:, 40:46] = rng.binomial(LARGE, 0.1, (3, 6))
    assert large_findings(ALL, sizes) == []


def test_in_some_hours_only_it_is_found_as_well() -> None:
    """Rain on a radio link."""
    rain = counted((0.2, 30.0, 30.0, 30.0), bad_blocks=slice(60, 72))
    assert told(large_findings(ALL, rain)) == [("large-packets-lost", "line")]
    two_bursts = counted((0.2, 100.0, 100.0, 100.0), bad_blocks=slice(60, 62))
    assert large_findings(ALL, two_bursts) == []


def test_without_neighbours_the_leg_is_not_claimed() -> None:
    sizes = counted((3.0, 3.0))
    assert told(large_findings((EDGE, NEAR), sizes)) == [("large-packets-lost", "inside or line")]
    assert told(large_findings((NEAR, OTHER), sizes)) == [("large-packets-lost", "unknown")]


def test_far_ends_and_too_few_packets_say_nothing() -> None:
    few = counted((3.0, 3.0, 3.0, 3.0), blocks=1)
    assert large_findings(ALL, few) == []
    none = counted((3.0,))
    none.large_sent[:] = none.large_lost[:] = 0
    assert large_findings((PLACES[-1],), none) == []


def test_quiet_days_stay_quiet() -> None:
    for seed in range(100):
        rng = np.random.default_rng(seed)
        loss = rng.uniform(0.0, 3.0, 4)
        assert large_findings(ALL, counted(loss, loss, seed)) == [], seed


@pytest.mark.parametrize(("sent", "is_told"), [(200, True), (199, False)])
def test_of_too_few_packets_nothing_is_said(sent: int, is_told: bool) -> None:
    """Of either size; lost evenly, so that chance has no say."""
    blocks = 10
    each = np.full((1, blocks), sent // blocks)
    each[0, : sent % blocks] += 1
    many, none = np.full((1, blocks), 500), np.zeros((1, blocks), np.int64)
    assert bool(large_findings((GATEWAY,), Sizes(1400, many, none, each, each // 2))) is is_told
    assert bool(large_findings((GATEWAY,), Sizes(1400, each, none, many, many // 2))) is is_told
