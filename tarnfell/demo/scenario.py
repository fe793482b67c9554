"""Merrow Sound Ferries: its sites, what each must carry, and what is really wrong there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from tarnfell.demo.simulate import Way
from tarnfell.store.sites import VideoNeed

SEED = 20_417
USER_EMAIL = "consultant@merrow.example"
USER_NAME = "Ines Harrow"
PASSWORD = "sounding-the-tarn"
BENCH_SLUG = "bench"

ENGAGEMENT = {
    "slug": "merrow-sound-ferries",
    "name": "Merrow Sound Ferries",
    "summary": "Moves its phones and meetings to a hosted service. Each site must show that it can carry them.",
}


USUAL = {"max_delay_ms": 200.0, "max_loss_pct": 1.0, "max_variation_ms": 60.0, "required_moments": 122}


@dataclass(frozen=True)
class DemoSite:
    """A site with seven days behind it, or (without ways) one that is only set up."""

    values: dict[str, Any]
    test_point: str
    probe: str
    far_end: tuple[str, str, str]
    """Name, place, address."""
    up: Way | None = None
    down: Way | None = None
    up_load: tuple[float, ...] = ()
    """Chance of other traffic by hour of a working day."""
    down_load: tuple[float, ...] = ()
    weekend_share: float = 0.15
    held_runs: tuple[tuple[int, int, int], ...] = field(default_factory=tuple)
    """Runs of several calls: days before the end, hour, calls; with the brief's video beside them."""
    held_every_minutes: int | None = None
    """How often the needed calls and video are held for a moment in business hours, by a recurring plan."""


def _hours(quiet: float, **spans: float) -> tuple[float, ...]:
    """``_hours(0.0, h9_12=0.5)``: a day of 24 values with spans set."""
    day = [quiet] * 24
    for span, value in spans.items():
        low, high = (int(part) for part in span[1:].split("_"))
        day[low:high] = [value] * (high - low)
    return tuple(day)


SITES = (
    DemoSite(
        values={
            "slug": "harbour-house",
            "name": "Harbour House",
            "place": "Head office, Merrow",
            "time_zone": "Europe/London",
            "open_minute": 8 * 60,
            "close_minute": 18 * 60,
            "medium": "Fibre",
            "down_kbps": 200_000,
            "up_kbps": 200_000,
            "provider": "Sound Fibre (made up)",
            "people": 60,
            "needed_calls": 12,
            "codec": "g711a",
            "ptime_ms": 20,
            "video": (VideoNeed("360p", 1), VideoNeed("screen", 1)),
            **USUAL,
        },
        test_point="reception desk",
        probe="harbour-desk",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        up=Way(rate_kbps=200_000, queue_ms=25, base_ms=9.0, jitter_ms=0.25, loss_pct=0.004, burst_rate=0.7),
        down=Way(rate_kbps=200_000, queue_ms=25, base_ms=9.2, jitter_ms=0.3, loss_pct=0.006, burst_rate=0.8),
        up_load=_hours(0.02, h8_18=0.3),
        down_load=_hours(0.05, h8_18=0.5),
        held_runs=((5, 10, 12), (3, 11, 12), (1, 14, 12)),
        held_every_minutes=20,
    ),
    DemoSite(
        values={
            "slug": "skerry-road",
            "name": "Skerry Road depot",
            "place": "Depot, Skerry Road",
            "time_zone": "Europe/London",
            "open_minute": 7 * 60,
            "close_minute": 17 * 60,
            "medium": "Cable",
            "down_kbps": 100_000,
            "up_kbps": 10_000,
            "provider": "Coastline Cable (made up)",
            "people": 34,
            "needed_calls": 12,
            "codec": "g711a",
            "ptime_ms": 20,
            "video": (VideoNeed("360p", 2),),
            "line_by": "Coastline Cable (made up)",
            "switches_by": "Merrow IT (made up)",
            "firewall_by": "Merrow IT (made up)",
            **USUAL,
        },
        test_point="dispatch office",
        probe="depot-dispatch",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        up=Way(rate_kbps=10_000, queue_ms=420, base_ms=14.0, jitter_ms=0.9, loss_pct=0.02, burst_rate=1.18),
        down=Way(rate_kbps=100_000, queue_ms=60, base_ms=12.5, jitter_ms=0.8, loss_pct=0.02, burst_rate=0.85),
        up_load=_hours(0.0, h7_9=0.12, h9_12=0.5, h12_13=0.2, h13_17=0.55, h22_24=0.1),
        down_load=_hours(0.05, h7_17=0.4, h19_23=0.2),
        held_runs=((4, 8, 6), (2, 15, 12)),
    ),
    DemoSite(
        values={
            "slug": BENCH_SLUG,
            "name": "Live bench",
            "place": "This machine: a probe, a far end and a path with faults between them",
            "time_zone": "Europe/London",
            "medium": "Stand-in path",
            "down_kbps": 4_000,
            "up_kbps": 2_000,
            "provider": "",
            "people": 8,
            "needed_calls": 4,
            "codec": "g711a",
            "ptime_ms": 20,
            "required_days": 1,
            "required_busy_hours": 1,
        },
        test_point="this machine",
        probe="bench-probe",
        far_end=("bench-far-end", "this machine, behind the stand-in path", "127.0.0.1"),
    ),
)

BENCH_PATH: Mapping[str, object] = {
    "seed": SEED,
    "up": {"delay_ms": 14, "spread_ms": 0.6, "rate_kbps": 2000, "queue_ms": 260},
    "down": {"delay_ms": 15, "spread_ms": 0.8, "rate_kbps": 4000, "queue_ms": 120},
    "repeat_s": 60,
    "steps": [
        {"at_s": 18, "up": {"cross_kbps": 1750}},
        {"at_s": 30, "up": {"cross_kbps": 0}},
        {"at_s": 38, "down": {"burst_enter_pct": 1.2, "burst_leave_pct": 30}},
        {"at_s": 48, "down": {"burst_enter_pct": 0}},
    ],
}
"""The bench's minute: calm, then uploads fill the line, calm again, then bursts of loss on the way down."""
