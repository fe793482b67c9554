"""Imported files over the API, and our own runs out as captures."""

from __future__ import annotations

import io
from dataclasses import replace
from typing import Any

import dpkt
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.writing import write_capture
from tarnfell.server.load import imports
from tarnfell.store import sites
from tarnfell.store.db import connect, writing
from tarnfell.work.ingest import again
from tests.exchange.test_capture import packets
from tests.exchange.test_echolog import LINUX, WINDOWS
from tests.server.conftest import SITE, House, record_file


def bring(house: House, body: bytes, name: str = "calls.pcap", **query: str) -> Any:
    return house.person.post(
        "/api/sites/pier/imports", query_string={"name": name, **query}, data=body,
        headers={"X-CSRF-Token": house.csrf},
    )  # fmt: skip


def shown(house: House, number: int) -> dict[str, Any]:
    return house.person.get(f"/api/imports/{number}").json


def test_a_capture_second_by_second(house: House) -> None:
    number = bring(house, write_capture(packets(count=500, lost=tuple(range(100, 140))))).json["id"]
    page = shown(house, number)
    (stream,) = page["streams"]
    assert (stream["codec"], stream["sent"], stream["lost"]) == ("g711a", 500, 40)
    assert len(stream["seconds"]) == 10
    assert stream["seconds"][2]["lost"] == 40
    assert stream["seconds"][2]["mos"] < 2 < stream["seconds"][0]["mos"]
    assert "One-way delay is not in a capture" in page["note"]
    (line,) = house.person.get("/api/sites/pier/imports").json["imports"]
    assert line["says"].startswith("1 RTP stream, the worst at")


def test_a_codec_is_named_by_hand_where_the_capture_names_none(house: House) -> None:
    body = write_capture(packets(kind=111, step=960))
    page = shown(house, bring(house, body).json["id"])
    assert page["streams"][0]["mos"] is None
    assert "name the codec" in page["streams"][0]["reason"]
    again = bring(house, body, codec="opus-24").json["id"]
    assert again == page["id"]
    assert shown(house, again)["streams"][0]["mos"] > 4


@pytest.mark.parametrize(("text", "lost"), [(LINUX, 3), (WINDOWS, 2)])
def test_an_echo_log(house: House, text: str, lost: int) -> None:
    page = shown(house, bring(house, text.encode(), "ping.txt").json["id"])
    assert page["kind"] == "echo log"
    assert page["echoes"][0]["lost"] == lost
    assert len(page["echoes"][0]["points"]) == page["echoes"][0]["sent"]
    assert "cannot judge a phone line" in page["note"]


def test_a_long_log_is_thinned_and_keeps_its_extremes(house: House) -> None:
    lines = [f"64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time={900 if n == 7777 else 5} ms" for n in range(20_000)]
    number = bring(house, "\n".join(lines).encode()).json["id"]
    house.judge()
    echo = shown(house, number)["echoes"][0]
    assert len(echo["points"]) <= 1500
    assert max(p[1] for p in echo["points"]) == 900


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (b"", "empty"),
        (b"\xff\xfe\x00\x01", "neither a capture"),
        (b"just some words", "no log of ping"),
        (write_capture([]), "None of the 0 packets"),
        (bytes.fromhex("d4c3b2a1"), "ends before its first packet"),
    ],
)
def test_hostile_files_get_a_sentence(house: House, body: bytes, says: str) -> None:
    answer = bring(house, body)
    assert answer.status_code == 422
    assert says in answer.json["detail"]
    assert "No codec" in bring(house, write_capture(packets()), codec="g999").json["detail"]
    assert house.person.get("/api/imports/99").status_code == 404


def test_a_run_opens_as_a_capture_and_reads_back_the_same(house: House) -> None:
    run = house.place(calls=2).json["id"]
    house.heartbeat()
    house.deliver(run, record_file(lost=tuple(range(30, 35))))
    answer = house.document(f"/api/runs/{run}/capture")
    assert answer.mimetype == "application/vnd.tcpdump.pcap"
    assert f"run{run}.pcap" in answer.headers["Content-Disposition"]
    first = next(iter(dpkt.pcap.Reader(io.BytesIO(answer.data))))[1]
    packet = dpkt.ip.IP(first)
    assert (packet.tos >> 2, packet.ttl, packet.len) == (46, 60, len(first))
    assert packet.data.ulen == 8 + 12 + 160
    times = [at for at, _ in dpkt.pcap.Reader(io.BytesIO(answer.data))]
    assert times == sorted(times)
    streams = find_streams(io.BytesIO(answer.data)).streams
    assert len(streams) == 4
    lost = [judge(s.trace, criterion_for(find_codec("g711a"), 20)).metrics.lost for s in streams]
    assert sorted(lost) == [0, 0, 0, 5]
    assert {s.codec for s in streams} == {"g711a"}


def test_of_a_site_the_capture_that_was_asked_for_last_is_kept(house: House) -> None:
    """They are large. The same one again is not made again."""
    tasks = []
    for _ in "12":
        run = house.place(calls=2).json["id"]
        house.heartbeat()
        house.deliver(run, record_file())
        tasks.append(house.document(f"/api/runs/{run}/capture").request.path)
    assert [house.person.get(task).status_code for task in tasks] == [404, 200]
    assert len(list((house.folder / "made").iterdir())) == 1
    assert house.document(f"/api/runs/{run}/capture").request.path == tasks[1]
    next((house.folder / "made").iterdir()).unlink()
    assert house.person.get(tasks[1]).status_code == 410
    assert house.document(f"/api/runs/{run}/capture").status_code == 200


def change(house: House, number: int, **said: Any) -> Any:
    return house.person.put(f"/api/imports/{number}", json=said, headers={"X-CSRF-Token": house.csrf})


def both_ways(kind: int = 111, step: int = 960) -> bytes:
    up = packets(250, kind=kind, step=step, ssrc=1, lost=tuple(range(100, 110)))
    down = [replace(p, source=p.destination, destination=p.source) for p in packets(250, kind=kind, step=step, ssrc=2)]
    return write_capture([*up, *down])


def test_a_codec_can_be_named_afterwards_and_stream_by_stream(house: House) -> None:
    number = bring(house, both_ways()).json["id"]
    assert [s["mos"] for s in shown(house, number)["streams"]] == [None, None]
    assert change(house, number, codecs={"1": "opus-24"}).status_code == 200
    page = shown(house, number)
    assert [(s["codec"], s["mos"] is not None) for s in page["streams"]] == [(None, False), ("opus-24", True)]
    change(house, number, codecs={"*": "g711a"})
    assert [s["codec"] for s in shown(house, number)["streams"]] == ["g711a", "g711a"]
    assert change(house, number, codecs={"7": "g711a"}).status_code == 422
    assert "No codec" in change(house, number, codecs={"0": "g999"}).json["detail"]
    assert house.person.get(f"/api/imports/{number}/file").data == both_ways()


def test_two_directions_are_one_call_unless_somebody_says_otherwise(house: House) -> None:
    number = bring(house, both_ways(), codec="opus-24").json["id"]
    assert shown(house, number)["pairs"] == [[0, 1]]
    change(house, number, pairs=[])
    assert shown(house, number)["pairs"] == []
    assert "one direction of one call" in change(house, number, pairs=[[0, 1], [1, 0]]).json["detail"]
    assert change(house, number, pairs=[[0, 5]]).status_code == 422


def test_a_file_is_renamed_and_deleted_with_what_was_read_in_it(house: House) -> None:
    number = bring(house, both_ways()).json["id"]
    assert change(house, number, name="Tuesday, reception").status_code == 200
    assert shown(house, number)["name"] == "Tuesday, reception"
    assert len(list((house.folder / "imports").iterdir())) == 1
    gone = house.person.delete(f"/api/imports/{number}", headers={"X-CSRF-Token": house.csrf})
    assert gone.status_code == 200
    assert house.person.get(f"/api/imports/{number}").status_code == 404
    assert list((house.folder / "imports").iterdir()) == []


def test_the_same_file_at_two_sites_is_kept_until_both_let_it_go(house: House) -> None:
    db = connect(house.folder)
    with writing(db):
        sites.add_site(db, 1, **{**SITE, "slug": "quay", "name": "Quay"})
    here = bring(house, both_ways()).json["id"]
    there = house.person.post(
        "/api/sites/quay/imports", query_string={"name": "x"}, data=both_ways(), headers={"X-CSRF-Token": house.csrf}
    ).json["id"]
    house.person.delete(f"/api/imports/{here}", headers={"X-CSRF-Token": house.csrf})
    assert house.person.get(f"/api/imports/{there}/file").data == both_ways()


def log(role_host: str, lost_every: int = 0, rtt: int = 5, at: str = "2026-11-25 09:{m:02}:{s:02}") -> bytes:
    """Ten minutes, an echo a second."""
    lines = []
    for n in range(600):
        stamp = at.format(m=n // 60, s=n % 60)
        if lost_every and n % lost_every == 1:
            lines.append(f"{stamp} no answer yet for icmp_seq={n + 1}")
        else:
            lines.append(f"{stamp} 64 bytes from {role_host}: icmp_seq={n + 1} ttl=64 time={rtt} ms")
    return "\n".join(lines).encode()


def test_logs_to_several_places_become_one_picture(house: House) -> None:
    """The gateway answers slowly for itself; loss begins on the line."""
    bring(house, log("192.0.2.1", lost_every=20, rtt=40), "a.txt", role="gateway")
    assert house.person.get("/api/sites/pier/imports").json["path"] is None
    bring(house, log("198.51.100.1", lost_every=25, rtt=12), "b.txt", role="edge")
    far = bring(house, log("203.0.113.9", lost_every=25, rtt=20), "c.txt").json["id"]
    change(house, far, roles={"0": "far-end"})
    path = house.person.get("/api/sites/pier/imports").json["path"]
    assert (path["minutes"], [p["role"] for p in path["places"]]) == (10, ["gateway", "edge", "far-end"])
    assert path["legs"][0]["loss_pct"] > 3  # the least of all three places
    assert [leg["p50_ms"] for leg in path["legs"]] == [12, 0, 8]
    assert change(house, far, roles={"4": "edge"}).status_code == 422


def test_a_file_stands_beside_the_day_sheet_when_somebody_says_so(house: House) -> None:
    """A log’s own stamps are local time at the site."""
    number = bring(house, log("192.0.2.1", lost_every=10)).json["id"]
    sheet = house.person.get("/api/sites/pier").json["sheet"]
    assert (sheet["imported"], sheet["days"]) == ([], [])
    assert change(house, number, shown=True, test_point_id=1).status_code == 200
    sheet = house.person.get("/api/sites/pier").json["sheet"]
    (one,) = sheet["imported"]
    assert (one["name"], one["test_point"]) == ("calls.pcap", "desk")
    assert one["cells"] == [{"day": "2026-11-25", "cell": 54, "mos": None, "loss_pct": 10.0}]
    assert [day["day"] for day in sheet["days"]][-1] == "2026-11-25"
    assert shown(house, number)["days"] == ["2026-11-25"]
    assert change(house, number, test_point_id=99).status_code == 422


def test_of_two_changes_at_once_neither_is_lost(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """One comes while the other is looked at."""
    number = bring(house, log("192.0.2.1", lost_every=10)).json["id"]
    check, others = imports._check, [{"shown": True}]

    def meanwhile(*asked: Any) -> None:
        check(*asked)
        if others:
            assert change(house, number, **others.pop()).status_code == 200

    monkeypatch.setattr(imports, "_check", meanwhile)
    assert change(house, number, test_point_id=1).status_code == 200
    page = shown(house, number)
    assert (page["shown"], page["test_point_id"]) == (True, 1)


def test_a_log_without_times_stands_where_somebody_says(house: House) -> None:
    lines = [f"64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time=5 ms" for n in range(900)]
    number = bring(house, "\n".join(lines).encode()).json["id"]
    assert shown(house, number)["days"] == []
    assert change(house, number, starts_local="half past nine").status_code == 422
    change(house, number, starts_local="2026-11-24 23:55", shown=True)
    (one,) = house.person.get("/api/sites/pier").json["sheet"]["imported"]
    assert [(c["day"], c["cell"]) for c in one["cells"]] == [("2026-11-24", 143), ("2026-11-25", 0)]


def test_lines_that_were_not_understood_are_on_the_page(house: House) -> None:
    page = shown(house, bring(house, log("192.0.2.1") + b"\nsomething else\n").json["id"])
    assert page["echoes"][0]["strange"] == [[601, "something else"]]
    assert page["echoes"][0]["notes"] == ["1 line was not understood."]


# Large files, which the clerk reads


@pytest.fixture
def all_are_large(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(imports, "READ_AT_ONCE_BYTES", 10)


CAPTURE = write_capture(packets(count=500, lost=tuple(range(100, 140))))


@pytest.mark.usefixtures("all_are_large")
def test_a_large_file_is_taken_at_once_and_read_in_turn(house: House) -> None:
    number = bring(house, CAPTURE).json["id"]
    page = shown(house, number)
    assert (page["state"], page["streams"], page["failure"]) == ("reading", [], None)
    (line,) = house.person.get("/api/sites/pier/imports").json["imports"]
    assert (line["state"], line["says"]) == ("reading", "being read")
    house.judge()
    page = shown(house, number)
    assert (page["state"], page["streams"][0]["lost"]) == ("read", 40)
    # Again: what was read stays on the screen until it is read anew.
    assert bring(house, CAPTURE, codec="opus-24").json["id"] == number
    assert (shown(house, number)["state"], len(shown(house, number)["streams"])) == ("reading", 1)


@pytest.mark.usefixtures("all_are_large")
def test_a_codec_named_for_a_large_capture_is_judged_in_turn(house: House) -> None:
    number = bring(house, write_capture(packets(kind=111, step=960))).json["id"]
    house.judge()
    assert shown(house, number)["streams"][0]["mos"] is None
    headers = {"X-CSRF-Token": house.csrf}
    odd = house.person.put(f"/api/imports/{number}", json={"codecs": {"0": "none-such"}}, headers=headers)
    assert odd.status_code == 422
    named = house.person.put(f"/api/imports/{number}", json={"codecs": {"0": "opus-24"}}, headers=headers)
    assert named.status_code == 200
    assert shown(house, number)["state"] == "reading"
    house.judge()
    assert shown(house, number)["streams"][0]["mos"] > 4


@pytest.mark.usefixtures("all_are_large")
def test_a_large_file_that_nothing_can_be_read_in_says_why(house: House) -> None:
    number = bring(house, CAPTURE[:24] + b"\0" * 40).json["id"]
    house.judge()
    page = shown(house, number)
    assert page["state"] == "failed"
    assert "belong to an RTP stream" in page["failure"]
    (line,) = house.person.get("/api/sites/pier/imports").json["imports"]
    assert line["says"] == page["failure"]
    assert "neither a capture" in bring(house, b"\x01" * 40).json["detail"]
    assert "none-such" in bring(house, CAPTURE, codec="none-such").json["detail"]


@pytest.mark.usefixtures("all_are_large")
def test_a_file_that_ends_the_clerk_is_given_up_after_five_tries(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    number = bring(house, CAPTURE).json["id"]
    tries = []

    def fault(*_: Any) -> None:
        tries.append(1)
        raise MemoryError

    monkeypatch.setattr(again, "read_file", fault)
    for _ in range(5):
        with pytest.raises(MemoryError):
            house.judge()
    house.judge()
    assert len(tries) == 5
    assert "could not be read in 5 tries" in shown(house, number)["failure"]

    # What is this machine's fault does not count.
    def full(*_: Any) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(again, "read_file", full)
    bring(house, CAPTURE)
    for _ in range(7):
        with pytest.raises(OSError, match="No space"):
            house.judge()
    monkeypatch.undo()
    house.judge()
    assert shown(house, number)["state"] == "read"
