"""The stand-in path's model: each fault alone, told by every packet's fate and time."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.standin.lane import Lane, LaneConfig, LaneError, Packet
from tarnfell.standin.path import Script

MS = 1_000_000


def send(lane: Lane, count: int, gap_ms: float = 20, port: int = 0) -> list[Packet]:
    """Offer packets of a call at a steady pace from second 1 on. Returns those that were dropped."""
    for i in range(count):
        lane.offer(Packet(bytes(172), MS * 1000 + int(i * gap_ms * MS), "a", port=port))
    return lane.costs()


def out(lane: Lane) -> list[tuple[int, Packet]]:
    """Everything on its way, with the instant it came out."""
    found = []
    while (due := lane.next_ns()) is not None:
        found += [(due, p) for p in lane.take(due)]
    return found


def lane(**settings: object) -> Lane:
    return Lane(LaneConfig.from_json(settings), random.Random(5))


def test_clear_way_only_takes_its_time() -> None:
    clear = lane(delay_ms=15)
    assert send(clear, 10) == []
    assert [at - p.in_ns for at, p in out(clear)] == [15 * MS] * 10


def test_a_link_sends_one_packet_after_the_other() -> None:
    """200 bytes at 1000 kbit/s take 1.6 ms; three at once leave 1.6 ms apart."""
    link = lane(rate_kbps=1000, queue_ms=100)
    send(link, 3, gap_ms=0)
    assert [(at - p.in_ns) / MS for at, p in out(link)] == pytest.approx([1.6, 3.2, 4.8])


def test_a_full_queue_drops_the_newest() -> None:
    link = lane(rate_kbps=1000, queue_ms=8)
    costs = send(link, 20, gap_ms=0)
    assert {p.fate for p in costs} == {"queue"}
    passed = out(link)
    assert len(passed) + len(costs) == 20
    assert max(at - p.in_ns for at, p in passed) <= 10 * MS


def test_fair_queueing_spares_the_thin_flow() -> None:
    link = lane(rate_kbps=1000, queue_ms=50, discipline="fair")
    for i in range(300):
        link.offer(Packet(bytes(1200), MS * 1000 + i * 2 * MS, "bulk"))
        if i % 10 == 0:
            link.offer(Packet(bytes(172), MS * 1000 + i * 2 * MS, "voice"))
    lost = link.costs()
    assert all(p.flow == "bulk" for p in lost)
    assert len(lost) > 50
    waits = [at - p.in_ns for at, p in out(link) if p.flow == "voice"]
    assert len(waits) == 30
    assert max(waits) < 25 * MS


def test_cross_traffic_builds_the_queue_gradually() -> None:
    link = lane(rate_kbps=1000, queue_ms=200, cross_kbps=1100)
    waits: list[int] = []
    for i in range(200):
        link.offer(Packet(bytes(172), MS * 1000 + i * 20 * MS, "voice"))
        waits += [at - p.in_ns for at, p in out_until(link, MS * 1000 + i * 20 * MS)]
    assert waits[0] < 20 * MS
    assert max(waits) > 150 * MS
    assert max(waits) < 230 * MS


def out_until(one: Lane, now: int) -> list[tuple[int, Packet]]:
    found = []
    while (due := one.next_ns()) is not None and due <= now:
        found += [(due, p) for p in one.take(due)]
    return found


def test_random_and_bursty_loss_at_the_asked_rate() -> None:
    lost = len(send(lane(loss_pct=5), 20_000))
    assert lost == pytest.approx(1000, rel=0.15)
    runs = lane(burst_enter_pct=1, burst_leave_pct=25)
    fates = [bool(send(runs, 1)) for _ in range(20_000)]
    starts = sum(1 for before, now in zip([False, *fates], fates, strict=False) if now and not before)
    assert sum(fates) / starts == pytest.approx(4, rel=0.25)


def test_reordering_duplication_marking_and_blocking() -> None:
    overtaking = lane(reorder_pct=10, reorder_ms=50)
    send(overtaking, 500)
    order = [p.in_ns for _, p in out(overtaking)]
    assert order != sorted(order)
    doubling = lane(duplicate_pct=10)
    send(doubling, 1000)
    assert sum(p.fate == "copied" for _, p in out(doubling)) == pytest.approx(100, rel=0.3)
    stripping = lane(dscp=0)
    stripping.offer(Packet(bytes(10), MS, "a", dscp=46))
    assert out(stripping)[0][1].dscp == 0
    closed = lane(blocked_ports=[[20000, 20003]])
    assert [p.fate for p in send(closed, 2, port=20002)] == ["blocked"] * 2
    assert send(closed, 2, port=20004) == []


def test_order_is_kept_under_scatter() -> None:
    scattered = lane(spread_ms=30)
    send(scattered, 500)
    order = [p.in_ns for _, p in out(scattered)]
    assert order == sorted(order)


def test_same_seed_same_fates() -> None:
    def fates() -> list[int]:
        one = lane(loss_pct=10, spread_ms=5)
        return [p.in_ns for p in send(one, 300)] + [at for at, _ in out(one)]

    assert fates() == fates()


def test_script_changes_what_a_step_names_and_repeats() -> None:
    script = Script.parse(
        '{"up": {"delay_ms": 5, "loss_pct": 1}, "repeat_s": 60, '
        '"steps": [{"at_s": 20, "up": {"loss_pct": 9}}, {"at_s": 10, "down": {"dscp": 0}}]}'
    )
    assert script.at(5)[0].loss_pct == 1
    assert (script.at(25)[0].loss_pct, script.at(25)[0].delay_ms, script.at(25)[1].dscp) == (9, 5, 0)
    assert script.at(65)[0].loss_pct == 1


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("not json", "cannot be read"),
        ('{"up": {"colour": 1}}', "no setting “colour”"),
        ('{"up": {"loss_pct": -1}}', "loss_pct cannot be -1"),
        ('{"up": {"discipline": "lifo"}}', "fifo or fair"),
        ('{"up": 3}', "object of settings"),
    ],
)
def test_bad_scripts_get_a_sentence(text: str, words: str) -> None:
    with pytest.raises(LaneError, match=words):
        Script.parse(text)


settings_of_a_lane = st.fixed_dictionaries(
    {},
    optional={
        "rate_kbps": st.integers(100, 5000),
        "queue_ms": st.integers(5, 300),
        "discipline": st.sampled_from(["fifo", "fair"]),
        "cross_kbps": st.integers(0, 3000),
        "delay_ms": st.integers(0, 50),
        "spread_ms": st.integers(0, 20),
        "loss_pct": st.integers(0, 30),
        "burst_enter_pct": st.integers(0, 10),
        "reorder_pct": st.integers(0, 20),
        "duplicate_pct": st.integers(0, 20),
    },
)


@given(settings_of_a_lane, st.lists(st.tuples(st.integers(0, 30_000), st.integers(0, 3)), max_size=120))
def test_every_packet_has_exactly_one_fate(asked: dict, packets: list[tuple[int, int]]) -> None:
    """Whatever the faults: each packet offered passes once or costs once, none early, and copies only come on top."""
    one = lane(**asked)
    now, passed = MS * 1000, []
    for gap_us, flow in packets:
        now += gap_us * 1000
        one.offer(Packet(bytes(172), now, flow))
        passed += out_until(one, now)
    # Other people's traffic never ends; ours has come out long before this.
    passed += out_until(one, now + 3000 * MS)
    costs = one.costs()
    originals = [p for _, p in passed if p.fate == "passed"]
    assert len(originals) + len(costs) == len(packets)
    assert {p.fate for p in costs} <= {"lost", "queue"}
    assert len({id(p) for p in [*originals, *costs]}) == len(packets)
    assert all(at >= p.in_ns + asked.get("delay_ms", 0) * MS for at, p in passed)
    if not asked.get("duplicate_pct"):
        assert len(passed) == len(originals)
