"""A change asked of a site, tried by the clerk, told beside what was measured."""

from __future__ import annotations

from dataclasses import dataclass, replace
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.core.causes import PROVIDER, Direction, LegName
from tarnfell.core.trace import Trace
from tarnfell.core.verdict.moments import Watched
from tarnfell.core.verdict.told import Told
from tarnfell.core.whatif.change import Change
from tarnfell.store import sites as site_store
from tarnfell.store import what_if as what_if_store
from tarnfell.store.db import connect, writing
from tarnfell.store.sites import Site
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.whatif import carrier, replay, trial
from tarnfell.work.whatif.carrier import Background, Flow, Legs
from tests.core.whatif.outlet import Traffic, through, traffic
from tests.server.conftest import House
from tests.server.test_runs import taken
from tests.work.test_evidence import all_day

START_US = 1_790_000_000_000_000
ADDRESS = "/api/sites/pier/what-if"


def recorded(up: Trace, down: Trace) -> bytes:
    """A run of one call whose directions came so."""
    columns: dict[str, list[int]] = {}
    for name, trace in (("up", up), ("down", down)):
        order = trace.arrival_order
        columns |= {
            f"{name}.sent_us": (trace.sent_us + START_US).tolist(),
            f"{name}.arrival_seq": trace.seq[order].tolist(),
            f"{name}.arrival_us": (trace.recv_us[order] + START_US).tolist(),
            f"{name}.arrival_dscp": [46] * len(order),
        }
    about = {"ssrc": 1, "dscp_sent": 46}
    meta = {"call": 1, "ptime_us": 20_000, "start_us": START_US, "bound": True, "up": about, "down": about}
    head = Record({"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False})
    return join_parts([head.serialize(), Record.of(meta, columns).serialize()])


@pytest.fixture
def queued(house: House) -> House:
    """A call whose upload met a queue that others filled, and whose download met nothing."""
    all_day(house)
    run_id = taken(house, calls=1, seconds=30)
    quiet = Traffic([], traffic(1, 0.2).media_ms, traffic(1, 0.2).scatter_ms)
    assert house.deliver(run_id, recorded(through(traffic(3, 1.4)), through(quiet))).status_code == 200
    return house


def pier(house: House) -> Site:
    site = site_store.site_by_slug(connect(house.folder), "pier")
    assert site is not None
    return site


def ask(house: House, **change: Any) -> Any:
    return house.post(ADDRESS, change)


def tried(house: House, **change: Any) -> dict[str, Any]:
    """The newest, after the clerk's turn."""
    assert ask(house, **change).status_code == 200
    loop.try_changes(connect(house.folder))
    return dict(house.person.get(ADDRESS).json["tried"][0])


def told_on(monkeypatch: pytest.MonkeyPatch, leg: LegName) -> None:
    monkeypatch.setattr(Legs, "of", lambda *_: (leg, True))


def test_a_change_is_asked_tried_told_and_removed(queued: House, monkeypatch: pytest.MonkeyPatch) -> None:
    told_on(monkeypatch, "line")
    page = ask(queued, first_up=True).json
    assert (page["tried"][0]["state"], page["tried"][0]["at_least"]) == ("waiting", None)
    assert page["tried"][0]["says"] == ["Media first at the router, upload"]
    assert page["measured"]["share"]["good"] == 0
    loop.try_changes(connect(queued.folder))
    (one,) = queued.person.get(ADDRESS).json["tried"]
    assert (one["state"], one["behind"]) == ("ready", False)
    assert (one["measured"]["share"]["good"], one["at_least"]["share"]["good"], one["at_least"]["share"]["calls"]) == (
        0,
        1,
        1,
    )
    assert "1 of 2 call directions were judged again from their packets." in one["cautions"]
    assert "1 call direction met a queue on the line, which this change removes." in one["cautions"]
    # What is asked again is tried again, in the place of the one before.
    ask(queued, first_up=True)
    (again,) = queued.person.get(ADDRESS).json["tried"]
    assert (again["id"] != one["id"], again["state"]) == (True, "waiting")
    headers = {"X-CSRF-Token": queued.csrf}
    assert queued.person.delete(f"{ADDRESS}/{again['id']}", headers=headers).json["tried"] == []
    assert queued.person.delete(f"{ADDRESS}/{again['id']}", headers=headers).status_code == 404
    page = queued.person.get("/api/sites/pier").json
    assert page["share"]["good"] == 0
    assert (page["coverage"]["business"], page["coverage"]["seen"]) == (168, 1)
    assert [one["most"] for one in page["coverage"]["hours"] if one["moments"]] == [1]


@pytest.mark.parametrize(
    ("leg", "change", "least", "best"),
    [
        ("line", {"first_up": True}, 1, 1),
        ("line", {"line_up": 4.0}, 1, 1),
        ("line", {"first_down": True}, 0, 0),
        ("line", {"first_inside": True}, 0, 0),
        ("inside", {"first_inside": True}, 1, 1),
        ("inside", {"first_up": True}, 0, 0),
        ("beyond", {"first_up": True, "first_inside": True}, 0, 0),
        ("unknown", {"first_up": True}, 0, 1),
        ("unknown", {"first_down": True, "line_down": 3.0}, 0, 0),
    ],
)
def test_only_the_queue_of_its_leg_and_direction_is_mended(
    queued: House, monkeypatch: pytest.MonkeyPatch, leg: LegName, change: dict[str, Any], least: int, best: int
) -> None:
    told_on(monkeypatch, leg)
    one = tried(queued, **change)
    assert one["at_least"]["share"]["good"] == least
    assert (one["at_best"] or one["at_least"])["share"]["good"] == best
    assert (one["at_best"] is None) == (least == best)
    if leg == "unknown" and best:
        assert any("the queue’s leg is not known" in line for line in one["cautions"])
    if leg == "beyond":
        assert "1 call direction met a queue on another leg, which stays as it is." in one["cautions"]


def test_what_a_watch_found_is_taken_along(queued: House) -> None:
    """Its times are no trouble once their queue is mended, and out of the period nothing of it counts."""
    one, two, three = (("2026-03-02", 50), ("2026-03-02", 60), ("2026-03-03", 50))
    queue = Told("watch", "", "uplink-queue", "line", "up", "", "", "", PROVIDER, frozenset({one, three}))
    facts = replace(
        trial.facts_of(connect(queued.folder), pier(queued)),
        told=[queue], watches=[Watched(frozenset({one, two, three}), frozenset({one, two, three}))],
    )  # fmt: skip
    for change, troubled in ((Change(first_up=True), {two}), (Change(first_down=True), {one, two, three})):
        (then,) = trial._without_mended(facts, change).watches
        assert (then.moments, then.troubled) == ({one, two, three}, troubled)
    (then,) = trial._in_period(facts, Change(from_day="2026-03-03")).watches
    assert (then.moments, then.troubled) == ({three}, {three})


def test_codec_and_buffer_judge_every_direction_anew(queued: House) -> None:
    deep = tried(queued, buffer_ms=400.0)
    assert deep["says"] == ["Buffer 400 ms"]
    assert "2 of 2 call directions were judged again from their packets." in deep["cautions"]
    db, site = connect(queued.folder), pier(queued)
    facts = trial.facts_of(db, site).calls
    for change in (Change(buffer_ms=400.0), Change(buffer_ms=400.0, adaptive=True), Change(codec="g729")):
        then = replay.replayed(db, trial.changed_site(site, change), change, facts, []).at_least
        up, down = (next(one for one in each if one.direction == "up") for each in (facts, then))
        assert up.late_pct is not None
        assert down.late_pct is not None
        assert down.sent == up.sent
        if change.codec:
            assert (down.ie, down.bpl, down.late_pct) == (10.0, 19.0, up.late_pct)
        else:
            assert down.late_pct < up.late_pct
            assert down.ie == up.ie
    same = replay.replayed(db, site, Change(buffer_ms=60.0), facts, [])
    assert same.at_least == facts  # as they were judged by the same rules


def test_what_is_required_is_judged_without_packets(queued: House) -> None:
    one = tried(queued, target_mos=1.0, needed_calls=1)
    assert one["says"] == ["Calls acceptable from 1.00 MOS on", "1 concurrent call"]
    assert one["cautions"] == []
    assert next(r for r in one["at_least"]["requirements"] if r["key"] == "capacity")["title"] == "1 concurrent call"
    share = tried(queued, required_share_pct=90.0)
    assert (share["measured"]["required_share_pct"], share["at_least"]["required_share_pct"]) == (97.0, 90.0)
    assert tried(queued, from_day="2030-01-01")["at_least"]["share"]["calls"] == 0
    assert tried(queued, until_day="2030-01-01")["at_least"]["share"]["calls"] == 1


def test_what_cannot_be_asked_is_refused_and_what_is_as_it_is_is_no_change(house: House) -> None:
    site = pier(house)
    as_it_is = {"codec": site.codec, "target_mos": site.target_mos, "open_days": site.open_days}
    assert "Nothing is changed" in ask(house, **as_it_is).json["detail"]
    assert "codec" in ask(house, codec="g999").json["detail"].lower()
    assert ask(house, line_up=0.5).status_code == 422
    assert ask(house, needed_calls=10**30).status_code == 422
    assert house.person.get(ADDRESS).json["tried"] == []


def test_evidence_that_came_since_makes_it_one_of_before(queued: House) -> None:
    assert not tried(queued, target_mos=3.0)["behind"]
    run_id = taken(queued, calls=1, seconds=30)
    quiet = through(traffic(1, 0.2))
    assert queued.deliver(run_id, recorded(quiet, quiet)).status_code == 200
    assert queued.person.get(ADDRESS).json["tried"][0]["behind"]
    assert not tried(queued, target_mos=3.0)["behind"]


def test_the_oldest_are_forgotten_and_one_that_ends_the_clerk_is_given_up(queued: House) -> None:
    for calls in range(1, what_if_store.MOST_KEPT + 3):
        ask(queued, needed_calls=calls + 100)
    told = queued.person.get(ADDRESS).json["tried"]
    assert [one["says"][0] for one in told] == [f"{n} concurrent calls" for n in range(114, 102, -1)]
    db = connect(queued.folder)
    with writing(db):
        db.execute("UPDATE what_if SET state = 'being tried', tries = ? WHERE id = ?", (3, told[-1]["id"]))
        db.execute("UPDATE what_if SET state = 'being tried', tries = ? WHERE id = ?", (2, told[-2]["id"]))
    loop.try_changes(db)
    states = [one["state"] for one in queued.person.get(ADDRESS).json["tried"]]
    assert states == ["ready"] * 11 + ["failed"]


def test_one_that_cannot_be_computed_holds_up_no_other_and_a_full_disk_only_puts_it_off(
    queued: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    ask(queued, needed_calls=101)
    ask(queued, needed_calls=102)
    whole = trial.tried
    failing: list[Exception] = [ValueError("damaged"), OSError("no room")]

    def fails(*args: Any) -> Any:
        if failing:
            raise failing.pop(0)
        return whole(*args)

    monkeypatch.setattr(trial, "tried", fails)
    db = connect(queued.folder)
    with pytest.raises(OSError, match="no room"):
        loop.try_changes(db)
    assert [(one.state, one.tries) for one in what_if_store.of_site(db, 1)] == [("waiting", 0), ("failed", 1)]
    loop.try_changes(db)
    assert [one.state for one in what_if_store.of_site(db, 1)] == ["ready", "failed"]


def test_a_result_of_another_version_is_told_as_one(queued: House) -> None:
    tried(queued, target_mos=3.0)
    with writing(connect(queued.folder)) as db:
        db.execute("UPDATE what_if SET result = '{}'")
    (one,) = queued.person.get(ADDRESS).json["tried"]
    assert (one["state"], one["behind"], one["at_least"]) == ("ready", True, None)


@dataclass
class Seen:
    from_us: int
    until_us: int
    leg: LegName
    direction: Direction | None = None
    kind: str = "delay"


@pytest.mark.parametrize(
    ("episodes", "causes", "told"),
    [
        ([], [], ("unknown", False)),
        ([], [("uplink-queue", "line", "up")], ("line", False)),
        ([], [("uplink-queue", "line", "down")], ("unknown", False)),
        ([], [("uplink-queue", "line", "up"), ("inside-congested", "inside", "both")], ("unknown", False)),
        ([], [("line-loss", "line", "both")], ("unknown", False)),
        ([Seen(0, 100, "inside")], [("uplink-queue", "line", "up")], ("inside", True)),
        ([Seen(0, 100, "inside", "down")], [], ("unknown", False)),
        ([Seen(0, 100, "inside", "up")], [], ("inside", True)),
        ([Seen(0, 100, "inside"), Seen(50, 80, "line")], [], ("unknown", True)),
        ([Seen(0, 40, "inside")], [], ("unknown", False)),  # over when the call began
        ([Seen(70, 90, "inside")], [], ("unknown", False)),  # began when it ended
        ([Seen(69, 90, "inside")], [], ("inside", True)),
        ([Seen(0, 200, "line"), Seen(1, 2, "inside")], [], ("line", True)),
        ([Seen(0, 100, "line", kind="outage")], [], ("unknown", False)),
    ],
)
def test_the_leg_is_what_a_watch_saw_then_and_else_what_all_evidence_tells(
    monkeypatch: pytest.MonkeyPatch, house: House, episodes: list[Seen], causes: list[Any], told: tuple[LegName, bool]
) -> None:
    for one in episodes:
        one.from_us, one.until_us = one.from_us * 1_000_000, one.until_us * 1_000_000
    monkeypatch.setattr(carrier.watch_store, "watches_of", lambda *_: [SimpleNamespace(id=1, probe_id=1)])
    monkeypatch.setattr(carrier, "kept_reading", lambda *_: SimpleNamespace(episodes=episodes))
    known = [SimpleNamespace(key=key, leg=leg, direction=way) for key, leg, way in causes]
    legs = Legs(connect(house.folder), pier(house), known)  # type: ignore[arg-type]
    assert legs.of(Flow("up", 1, 40_000_000, 30.0)) == told
    # What another probe's watch saw tells nothing of this one's calls.
    assert legs.of(Flow("up", 2, 40_000_000, 30.0)) == (legs.of(Flow("up", 1, 10**15, 10.0)) if episodes else told)


@pytest.mark.parametrize(
    ("counts", "least"),
    [
        ((1000, 0, 500, 100), 1 - 0.003 * 5),
        ((1000, 50, 1000, 50), 0.0),
        ((1000, 25, 1000, 100), 1 - 0.38),
        ((0, 0, 500, 100), 0.0),
        ((1000, 0, 500, 0), 0.0),
    ],
)
def test_a_full_queue_is_given_no_losses_that_come_without_it(counts: tuple[int, ...], least: float) -> None:
    assert Background(*counts).least_mended == pytest.approx(least)
