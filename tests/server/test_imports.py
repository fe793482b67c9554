"""Evidence from elsewhere over the API, and our own runs out as captures."""

from __future__ import annotations

import io
from typing import Any

import dpkt
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.writing import write_capture
from tests.exchange.test_capture import packets
from tests.exchange.test_echolog import LINUX, WINDOWS
from tests.server.conftest import House, record_file


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
    assert page["echo"]["lost"] == lost
    assert len(page["echo"]["points"]) == page["echo"]["sent"]
    assert "cannot judge a phone line" in page["note"]


def test_a_long_log_is_thinned_and_keeps_its_extremes(house: House) -> None:
    lines = [f"64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time={900 if n == 7777 else 5} ms" for n in range(20_000)]
    echo = shown(house, bring(house, "\n".join(lines).encode()).json["id"])["echo"]
    assert len(echo["points"]) <= 1500
    assert max(p[1] for p in echo["points"]) == 900


@pytest.mark.parametrize(
    ("body", "says"),
    [
        (b"", "empty"),
        (b"\xff\xfe\x00\x01", "neither a capture"),
        (b"just some words", "no log of ping"),
        (write_capture([]), "None of the 0 packets"),
        (bytes.fromhex("d4c3b2a1"), "no packet capture"),
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
    house.probe("PUT", f"/api/probe/jobs/{run}/record", data=record_file(lost=tuple(range(30, 35))))
    answer = house.person.get(f"/api/runs/{run}/run.pcap")
    first = next(iter(dpkt.pcap.Reader(io.BytesIO(answer.data))))[1]
    packet = dpkt.ip.IP(first)
    assert (packet.tos >> 2, packet.ttl, packet.len) == (46, 60, len(first))
    assert packet.data.ulen == 8 + 12 + 160
    streams = find_streams(io.BytesIO(answer.data)).streams
    assert len(streams) == 4
    lost = [judge(s.trace, criterion_for(find_codec("g711a"), 20)).metrics.lost for s in streams]
    assert sorted(lost) == [0, 0, 0, 5]
    assert {s.codec for s in streams} == {"g711a"}
