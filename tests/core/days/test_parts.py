"""Parts of the day by the site's clock, weekdays against weekends."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from tarnfell.core.days.parts import Parts

LONDON = ZoneInfo("Europe/London")


def us(*when: int) -> int:
    return int(datetime(*when, tzinfo=UTC).timestamp() * 1e6)  # type: ignore[arg-type,misc]


def test_stretches_belong_to_the_part_that_the_sites_clock_says() -> None:
    """In July it is an hour ahead of UTC: Friday 23:00 UTC is Saturday's night there."""
    at = [
        us(2026, 7, 3, 4, 50), us(2026, 7, 3, 5, 0), us(2026, 7, 3, 9, 50), us(2026, 7, 3, 10, 0),
        us(2026, 7, 3, 13, 0), us(2026, 7, 3, 17, 0), us(2026, 7, 3, 22, 50), us(2026, 7, 3, 23, 0),
        us(2026, 7, 5, 22, 50), us(2026, 7, 5, 23, 0),
    ]  # fmt: skip
    ones = np.ones(len(at), np.int64)
    told = Parts(np.array(at), LONDON).of(ones, 0 * ones, 1.0 * ones, 1.0 * ones)
    assert [(one.name, one.from_hour, one.weekend, one.stretches) for one in told] == [
        ("night", 0, False, 2), ("morning", 6, False, 2), ("noon", 11, False, 1), ("afternoon", 14, False, 1),
        ("evening", 18, False, 2), ("night", 0, True, 1), ("evening", 18, True, 1),
    ]  # fmt: skip


def test_a_part_has_its_loss_its_spread_and_its_worst_moment() -> None:
    monday = us(2026, 11, 2, 8)
    at = monday + np.arange(40) * 600_000_000 // 4
    sent = np.full(40, 10)
    lost = np.where(np.arange(40) == 7, 10, 1)
    p50 = np.where(np.arange(40) == 7, np.nan, 20.0 + np.arange(40) % 3)
    p95 = np.arange(40, dtype=float)
    p95[11] = 90.0
    (one,) = Parts(at, LONDON).of(sent, lost, p50, p95)
    assert (one.sent, one.lost, one.stretches) == (400, 49, 40)
    assert (one.p50_ms, one.worst_ms, one.worst_us) == (21.0, 90.0, int(at[11]))
    assert one.p95_ms == pytest.approx(np.percentile(np.delete(p95, 7), 95), abs=0.01)


def test_what_never_answered_has_no_delay_and_what_was_never_asked_is_not_there() -> None:
    at = us(2026, 11, 2, 8) + np.arange(2) * 600_000_000
    nothing = np.full(2, np.nan)
    (one,) = Parts(at, LONDON).of(np.array([5, 0]), np.array([5, 0]), nothing, nothing)
    assert (one.stretches, one.sent, one.lost) == (1, 5, 5)
    assert (one.p50_ms, one.p95_ms, one.worst_ms, one.worst_us) == (None, None, None, None)
    assert Parts(at, LONDON).of(np.zeros(2, np.int64), np.zeros(2, np.int64), nothing, nothing) == []
