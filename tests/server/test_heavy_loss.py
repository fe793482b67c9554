"""When a run ends by itself: what the probe tells second by second, and whether it is told to stop."""

from __future__ import annotations

from typing import Any

import pytest

from tests.server.conftest import House


def begin(house: House, **changes: Any) -> int:
    run_id = int(house.place(seconds=120, **changes).json["id"])
    assert house.heartbeat() is not None
    return run_id


def tell(house: House, run: int, second: int, up: tuple[int, int], down: tuple[int, int], video: int = 0) -> bool:
    """Packets sent and received so far each way, the same on both calls; whether the answer is to stop."""

    def rows(count: tuple[int, int]) -> list[dict[str, int]]:
        sent, received = count
        return [{"sent": sent, "received": received, "reached": sent, "late": 0, "jitter_us": 9, "pdv_us": 9}]

    body = {"second": second, "up": rows(up) * 2, "down": rows(down) * 2, "rtt_us": 9, "send_late_max_us": 9}
    if video:
        body |= {"video_up": rows((video, video)), "video_down": rows((video, video))}
    answer = house.probe("POST", f"/api/probe/jobs/{run}/progress", json=body)
    assert answer.status_code == 200, answer.text
    return bool(answer.json["stop"])


def stops_at(house: House, received: list[int], side: str = "up", seconds: list[int] | None = None) -> int | None:
    """The second at which the run is stopped, of which ``received`` tells what had arrived of 50 packets a second."""
    run = begin(house)
    for second, arrived in zip(seconds or range(1, len(received) + 1), received, strict=True):
        lossy, whole = (50 * second, arrived), (50 * second, 50 * second)
        if tell(house, run, second, *((lossy, whole) if side == "up" else (whole, lossy))):
            return second
    return None


@pytest.mark.parametrize("side", ["up", "down"])
def test_heavy_loss_either_way_ends_the_run_after_ten_seconds(house: House, side: str) -> None:
    assert stops_at(house, [20 * s for s in range(1, 20)], side) == 11
    words = [e["words"] for e in house.person.get("/api/runs/1").json["events"]]
    assert any(w.startswith("Stopped by itself: at least 30 % of packets were missing for 10 seconds.") for w in words)


@pytest.mark.parametrize(("of_fifty", "stopped"), [(35, 11), (36, None)])
def test_three_tenths_are_heavy_and_a_little_less_is_not(house: House, of_fifty: int, stopped: int | None) -> None:
    assert stops_at(house, [of_fifty * s for s in range(1, 20)]) == stopped


@pytest.mark.parametrize(("down_s", "stopped"), [(6, None), (8, 19), (20, 19)])
def test_a_line_that_is_down_for_some_seconds_is_borne(house: House, down_s: int, stopped: int | None) -> None:
    """Everything for ten seconds, nothing for a while, and everything again."""
    told = [50 * (min(s, 10) + max(0, s - 10 - down_s)) for s in range(1, 40)]
    assert stops_at(house, told) == stopped


def test_short_breaks_with_calm_between_them_are_measured_on(house: House) -> None:
    """Two seconds of nothing, seven of everything, over and over."""
    flowing = [s % 9 > 1 for s in range(60)]
    assert stops_at(house, [50 * sum(flowing[:s]) for s in range(1, 60)]) is None


def test_an_end_that_stands_still_does_not_hide_the_loss(house: House) -> None:
    """Every third second nothing is told of, and the next tells of twice as much."""
    told = [20 * (s if s % 3 else s - 1) for s in range(1, 30)]
    assert stops_at(house, told) in (11, 12, 13)


def test_packets_told_of_late_are_not_lost(house: House) -> None:
    """The far end's count arrives three seconds behind; nothing is missing."""
    assert stops_at(house, [50 * max(0, s - 3) for s in range(1, 40)]) is None


def test_seconds_that_were_not_told_are_bridged(house: House) -> None:
    """The server was away between seconds 4 and 15."""
    seconds = [1, 2, 3, 4, 15, 16, 17, 18, 19, 20]
    assert stops_at(house, [20 * s for s in seconds], seconds=seconds) == 15


def test_video_that_arrives_counts_among_what_was_sent(house: House) -> None:
    """Half of two calls is lost; beside a video of four times their packets that is no longer heavy."""
    profiles = [{"profile": "360p", "streams": 1}]
    run = begin(house, video=profiles)
    assert not any(tell(house, run, s, (50 * s, 25 * s), (50 * s, 50 * s), video=400 * s) for s in range(1, 30))


def test_a_run_that_sends_nothing_is_not_stopped_for_loss(house: House) -> None:
    run = begin(house)
    assert not any(tell(house, run, s, (0, 0), (0, 0)) for s in range(1, 30))
