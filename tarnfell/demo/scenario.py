"""Merrow Sound Ferries: its sites, what each must carry, and what is really wrong there."""

from __future__ import annotations

from collections.abc import Mapping

from tarnfell.demo.simulate import Way
from tarnfell.demo.truth import DemoSite, Inside, Spell
from tarnfell.store.members import Role
from tarnfell.store.sites import VideoNeed
from tarnfell.wire.kinds.check import ServiceAsked

SEED = 20_417
USER_EMAIL = "consultant@merrow.example"
USER_NAME = "Ines Harrow"
PASSWORD = "sounding-the-tarn"
PEOPLE: tuple[tuple[str, str, Role], ...] = (
    (USER_EMAIL, USER_NAME, "consultant"),
    ("colleague@merrow.example", "Tobias Venn", "colleague"),
    ("customer@ferries.example", "Mairi Sound", "customer"),
)
"""All sign in with the same password."""
BENCH_SLUG = "bench"

SLUG, NAME = "merrow-sound-ferries", "Merrow Sound Ferries"
SUMMARY = "Moves its phones and meetings to a hosted service. Each site must show that it can carry them."


RESOLVER = "203.0.113.53"
NAMES = ("service-west.example", "meet.example")
SERVICES = (
    ServiceAsked("Meetings", "meet.example", 443, "tls"),
    ServiceAsked("Sign-in", "login.example", 443, "tls"),
    ServiceAsked("Phone settings", "phones.example", 443, "tls"),
)
"""What each site's check asks for."""
USUAL = {"max_delay_ms": 200.0, "max_loss_pct": 1.0, "max_variation_ms": 60.0, "required_moments": 122}


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
        filled=((4, 19), (2, 19)),
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
        slow_edge=True,
        held_runs=((4, 8, 6), (2, 15, 12)),
        filled=((3, 18),),
    ),
    DemoSite(
        values={
            "slug": "inner-holm",
            "name": "Inner Holm kiosk",
            "place": "Ticket kiosk on the pier, Inner Holm",
            "time_zone": "Europe/London",
            "open_minute": 6 * 60,
            "close_minute": 20 * 60,
            "open_days": "1234567",
            "medium": "Radio bridge",
            "down_kbps": 20_000,
            "up_kbps": 8_000,
            "provider": "Holm Radio Links (made up)",
            "people": 4,
            "needed_calls": 2,
            "codec": "g711a",
            "ptime_ms": 20,
            "video": (VideoNeed("360p", 1),),
            "line_by": "Holm Radio Links (made up)",
            "firewall_by": "Merrow IT (made up)",
            **USUAL,
        },
        test_point="ticket window",
        probe="holm-window",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        up=Way(rate_kbps=8_000, queue_ms=60, base_ms=15.0, jitter_ms=1.2, loss_pct=0.15, burst_rate=0.7),
        down=Way(rate_kbps=20_000, queue_ms=60, base_ms=15.5, jitter_ms=1.4, loss_pct=0.15, burst_rate=0.7),
        up_load=_hours(0.0, h6_20=0.2),
        down_load=_hours(0.0, h6_20=0.3),
        weekend_share=0.9,
        large_loss_pct=2.5,
        spells=(
            Spell(6, 14 * 60 + 10, 3000, loss_pct=7, large_loss_pct=30),
            Spell(4, 9 * 60 + 25, 6600, loss_pct=9, large_loss_pct=35),
            Spell(4, 18 * 60 + 40, 2700, loss_pct=6, large_loss_pct=28),
            Spell(3, 7 * 60 + 30, 4800, loss_pct=7, large_loss_pct=30),
            Spell(2, 16 * 60 + 5, 4200, loss_pct=8, large_loss_pct=32),
        ),
        held_runs=((3, 11, 2), (1, 9, 2)),
    ),
    DemoSite(
        values={
            "slug": "ferrygate",
            "name": "Ferrygate booking hall",
            "place": "Terminal building, Ferrygate",
            "time_zone": "Europe/London",
            "open_minute": 7 * 60,
            "close_minute": 19 * 60,
            "medium": "Fibre",
            "down_kbps": 100_000,
            "up_kbps": 40_000,
            "provider": "Sound Fibre (made up)",
            "people": 22,
            "needed_calls": 8,
            "codec": "g711a",
            "ptime_ms": 20,
            "switches_by": "Ferrygate Harbour Trust (made up)",
            **USUAL,
        },
        test_point="ticket counter 3",
        probe="ferrygate-counter",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        up=Way(rate_kbps=40_000, queue_ms=30, base_ms=10.5, jitter_ms=0.3, loss_pct=0.005, burst_rate=0.7),
        down=Way(rate_kbps=100_000, queue_ms=30, base_ms=10.0, jitter_ms=0.3, loss_pct=0.005, burst_rate=0.7),
        up_load=_hours(0.02, h7_19=0.3),
        down_load=_hours(0.02, h7_19=0.4),
        inside=Inside(
            up=Way(rate_kbps=100_000, queue_ms=170, base_ms=0.1, jitter_ms=0.05, loss_pct=0.0, burst_rate=1.25),
            down=Way(rate_kbps=100_000, queue_ms=170, base_ms=0.1, jitter_ms=0.05, loss_pct=0.0, burst_rate=1.2),
            load=_hours(0.0, h12_14=0.75),
        ),
        weekend_share=0.0,
        marking_up=False,
        held_runs=((4, 10, 8), (2, 15, 8)),
    ),
    DemoSite(
        values={
            "slug": "saltmarsh",
            "name": "Saltmarsh call centre",
            "place": "Saltmarsh Business Park",
            "time_zone": "Europe/London",
            "open_minute": 6 * 60,
            "close_minute": 23 * 60,
            "medium": "VDSL",
            "down_kbps": 80_000,
            "up_kbps": 20_000,
            "provider": "Coastline Cable (made up)",
            "people": 45,
            "needed_calls": 20,
            "codec": "g711a",
            "ptime_ms": 20,
            "line_by": "Coastline Cable (made up)",
            "firewall_by": "Saltmarsh Security (made up)",
            **USUAL,
        },
        test_point="team leads’ row",
        probe="saltmarsh-leads",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        up=Way(rate_kbps=20_000, queue_ms=45, base_ms=12.0, jitter_ms=0.6, loss_pct=0.01, burst_rate=0.75),
        down=Way(rate_kbps=80_000, queue_ms=45, base_ms=11.5, jitter_ms=0.6, loss_pct=0.01, burst_rate=0.75),
        up_load=_hours(0.05, h6_23=0.3),
        down_load=_hours(0.05, h6_23=0.4),
        weekend_share=0.8,
        spells=tuple(
            Spell(days_before, 60 + minute, seconds)
            for days_before, minute, seconds in (
                (6, 9, 190),
                (5, 11, 260),
                (4, 8, 150),
                (2, 12, 310),
                (1, 10, 220),
                (0, 9, 240),
            )
        ),
        closed_ports=range(20064, 20128),
        sip_helper=True,
        held_runs=((5, 11, 10), (3, 15, 20), (1, 10, 20)),
    ),
    DemoSite(
        values={
            "slug": "slipway",
            "name": "Slipway workshop",
            "place": "Boatyard, north slip",
            "time_zone": "Europe/London",
            "open_minute": 7 * 60,
            "close_minute": 16 * 60,
            "medium": "Cable",
            "down_kbps": 50_000,
            "up_kbps": 5_000,
            "provider": "Coastline Cable (made up)",
            "people": 9,
            "needed_calls": 3,
            "codec": "g711a",
            "ptime_ms": 20,
            **USUAL,
        },
        test_point="foreman’s office",
        probe="slipway-office",
        far_end=("service-west", "hosted service, west", "198.51.100.20"),
        medium="Wi-Fi",
        up=Way(rate_kbps=5_000, queue_ms=90, base_ms=13.0, jitter_ms=1.5, loss_pct=0.05, burst_rate=0.8),
        down=Way(rate_kbps=50_000, queue_ms=60, base_ms=12.0, jitter_ms=1.5, loss_pct=0.05, burst_rate=0.8),
        up_load=_hours(0.1),
        down_load=_hours(0.1),
        hours=3.0,
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
