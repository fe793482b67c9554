"""Which leg of a path adds loss and delay, by the least bad of a place and all beyond it."""

from __future__ import annotations

import pytest

from tarnfell.core.legs import Role, Stretch, Target, echo_path, stretch_of


def target(
    role: Role, loss: float = 0, p50: float | None = 10, p95: float | None = 12,
    minutes: dict[int, Stretch] | None = None,
) -> Target:  # fmt: skip
    whole = Stretch(1000, round(1000 * loss), p50, p95)
    return Target(role, "192.0.2.1", whole, minutes)


def test_a_slow_hop_alone_adds_nothing() -> None:
    path = echo_path([target("gateway", 0.08, 60, 200), target("edge", 0, 15, 18), target("far-end", 0, 30, 34)])
    assert [(p.through_loss_pct, p.through_p95_ms) for p in path.places] == [(0, 18), (0, 18), (0, 34)]
    assert [(leg.leg, leg.loss_pct, leg.p95_ms) for leg in path.legs] == [
        ("inside", 0, 18), ("line", 0, 0), ("beyond", 0, 16),
    ]  # fmt: skip
    ((key, says),) = path.not_faults
    assert key == "hop-slow"
    assert "200 ms 95th percentile, 8.0 % unanswered" in says
    assert path.says == "No leg stands out: through the far end 0.0 % lost, 34 ms round trip at the 95th percentile."


def test_trouble_that_starts_at_a_leg_is_seen_on_every_later_one() -> None:
    path = echo_path([target("far-end", 0.05, 40, 95), target("gateway", 0, 2, 3), target("edge", 0.04, 12, 60)])
    assert [p.role for p in path.places] == ["gateway", "edge", "far-end"]
    assert [leg.loss_pct for leg in path.legs] == pytest.approx([0, 4, 1])
    assert path.says.startswith("4.0 % of echoes are lost on the leg “line”, up to the provider’s edge.")
    assert "Delay swings most on the leg “line”: it adds 10 ms in the median and 57 ms" in path.says
    assert path.not_faults == []


@pytest.mark.parametrize(
    ("roles", "legs"),
    [
        (("edge", "outside"), ["inside and line", "beyond"]),
        (("outside", "far-end"), ["the whole path", "beyond"]),
        (("far-end",), ["the whole path"]),
        (("outside",), ["the whole path"]),
        (("gateway", "outside"), ["inside", "line and beyond"]),
        (("gateway", "far-end"), ["inside", "line and beyond"]),
    ],
)
def test_legs_that_nothing_tells_apart_are_one(roles: tuple[Role, ...], legs: list[str]) -> None:
    assert [one.leg for one in echo_path([target(role) for role in roles]).legs] == legs


def test_a_place_that_never_answers_is_muted_only_if_something_beyond_does() -> None:
    silent = target("gateway", 1, None, None)
    path = echo_path([silent, target("edge")])
    assert path.not_faults[0][0] == "echo-muted"
    assert path.places[0].through_loss_pct == 0
    # However far out it stands, by the one that is next to it as well.
    outer = echo_path([target("gateway"), target("edge"), target("outside", 1, None, None), target("far-end")])
    assert [key for key, _ in outer.not_faults] == ["echo-muted"]
    dead = echo_path([target("gateway"), target("edge", 1, None, None)])
    assert dead.not_faults == []
    assert [leg.loss_pct for leg in dead.legs] == [0, 100]


def test_minutes_tell_what_whole_logs_cannot() -> None:
    """Gateway and edge lose the same share, but never in the same minute: neither is the way's."""
    bad, good = Stretch(60, 6, 10, 12), Stretch(60, 0, 10, 12)
    gateway = target("gateway", 0.05, minutes={m: bad if m % 2 else good for m in range(10)})
    edge = target("edge", 0.05, minutes={m: good if m % 2 else bad for m in range(10)} | {99: bad})
    path = echo_path([gateway, edge])
    assert path.minutes == 10
    assert [p.through_loss_pct for p in path.places] == [0, pytest.approx(5)]
    whole = echo_path([target("gateway", 0.05), target("edge", 0.05)])
    assert (whole.minutes, whole.places[0].through_loss_pct) == (None, pytest.approx(5))


@pytest.mark.parametrize(
    ("roles", "legs"),
    [
        (("far-end",), ["the whole path"]),
        (("edge", "outside"), ["inside and line", "beyond"]),
        (("gateway", "far-end"), ["inside", "line and beyond"]),
    ],
)
def test_legs_that_were_not_told_apart_are_one(roles: tuple[Role, ...], legs: list[str]) -> None:
    assert [leg.leg for leg in echo_path([target(r) for r in roles]).legs] == legs


def test_one_log_a_place() -> None:
    with pytest.raises(ValueError, match="takes one log"):
        echo_path([target("edge"), target("edge")])
    with pytest.raises(ValueError, match="takes one log"):
        echo_path([])


def test_a_stretch_counts_answers_without_a_time() -> None:
    assert stretch_of([1.0, None, None, 3.0], [True, True, False, True]) == Stretch(4, 1, 2.0, pytest.approx(2.9))


@pytest.mark.parametrize(("lost_pct", "named"), [(0.4, False), (0.5, True)])
def test_loss_below_half_a_percent_is_not_made_a_finding(lost_pct: float, named: bool) -> None:
    assert ("are lost on the leg" in echo_path([target("gateway"), target("edge", lost_pct / 100)]).says) == named


@pytest.mark.parametrize(("p95_ms", "named"), [(19.9, False), (20.0, True)])
def test_swings_below_ten_milliseconds_are_not_made_a_finding(p95_ms: float, named: bool) -> None:
    path = echo_path([target("gateway", 0, 10, p95_ms)])
    assert ("Delay swings most" in path.says) == named


@pytest.mark.parametrize(
    ("own", "told"),
    [((0, 40.0), False), ((0, 40.1), True), ((0.01, 20.0), False), ((0.011, 20.0), True)],
)
def test_how_slow_a_hop_must_be_to_be_called_so(own: tuple[float, float], told: bool) -> None:
    """Twenty milliseconds or one percent beyond what passes through it."""
    path = echo_path([target("gateway", own[0], 10, own[1]), target("edge", 0, 10, 20)])
    assert bool(path.not_faults) == told
