"""A far end that takes browsers: twenty at once in bounded memory, strangers, and offers of whoever means it ill."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import secrets
import socket
import struct
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from aiortc import RTCConfiguration, RTCPeerConnection

from tarnfell.probe.connect import CallError
from tarnfell.probe.offering import answer_of
from tarnfell.wire.browser import MEDIA, BrowserCalls
from tests import rig
from tests.lab.conftest import NEEDS_ROOT, Row, row_of
from tests.lab.test_browser import standing_in

pytestmark = [pytest.mark.lab, NEEDS_ROOT]

ROOT = Path(__file__).parents[2]
PAGES = 20
BYSTANDER = "192.0.2.77"
COUNTED = (
    f"table inet t {{\n chain out {{\n type filter hook output priority 0\n ip daddr {BYSTANDER} counter\n }}\n}}\n"
)
MOST_EACH = 64 << 20
"""Bytes of a session's own."""


@contextmanager
def far_end(folder: Path) -> Iterator[tuple[Row, int]]:
    """And the number of its process."""
    with (
        row_of("site", "far") as row,
        rig.far_end(folder, row.address["far"], prefix=row.inside("far"), more=("--browser",)) as process,
    ):
        row.await_port("far", rig.CONTROL_PORT)
        yield row, process.pid


def pages(row: Row, count: int) -> subprocess.Popen[str]:
    told = [row.address["far"], str(rig.CONTROL_PORT), rig.KEY, str(count)]
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    return subprocess.Popen(
        [*row.inside("site"), sys.executable, str(Path(__file__).parent / "pages.py"), *told],
        text=True, env={**os.environ, "PYTHONPATH": str(ROOT)}, **pipes,
    )  # fmt: skip


def end(asking: subprocess.Popen[str]) -> list[dict[str, int | bool]]:
    """What each page found."""
    out, said = asking.communicate("end\n", timeout=rig.HANGS_S)
    assert asking.returncode == 0, said
    return list(json.loads(out))


def children(number: int) -> list[int]:
    told = Path(f"/proc/{number}/task/{number}/children").read_text()
    return [int(one) for one in told.split()]


def own_bytes(number: int) -> int:
    """What a process has for itself, without what it shares with those it was forked from."""
    rollup = Path(f"/proc/{number}/smaps_rollup").read_text()
    return sum(int(line.split()[1]) << 10 for line in rollup.splitlines() if line.startswith(("Private_", "Swap:")))


def test_twenty_browsers_at_once_are_served_in_bounded_memory(tmp_path: Path) -> None:
    with far_end(tmp_path) as (row, number):
        asking = pages(row, PAGES)
        assert asking.stderr is not None
        assert asking.stderr.readline() == "all are open\n"
        serving = children(number)
        each = [own_bytes(one) for one in serving]
        told = end(asking)
        rig.eventually(lambda: not children(number), "all sessions to end", 60)
        alone = own_bytes(number)
    assert len(serving) == PAGES
    assert max(each) < MOST_EACH
    assert alone < MOST_EACH  # nothing stays behind
    for one in told:
        assert one["kept"]
        assert one["came"] > 0
        assert one["up"] > 0


def offer() -> str:
    """As a page writes it."""

    async def made() -> str:
        peer = RTCPeerConnection(RTCConfiguration(iceServers=[]))
        peer.createDataChannel(MEDIA, ordered=False, maxRetransmits=0)
        await peer.setLocalDescription(await peer.createOffer())
        told = str(peer.localDescription.sdp)
        await peer.close()
        return told

    return asyncio.run(made())


def ask(row: Row, written: str) -> str:
    """The far end's answer to an offer. Raises CallError."""
    asked = BrowserCalls(calls=1, interval_ms=20, filling=93, seconds=5.0, offer=written, token=secrets.token_hex(32))
    with standing_in(row.names["site"]):
        return answer_of(row.address["far"], rig.CONTROL_PORT, rig.KEY, asked)


def without(written: str, start: str) -> str:
    return "".join(line for line in written.splitlines(keepends=True) if not line.startswith(start))


def test_offers_that_mean_it_ill_are_refused_in_words_and_others_are_served_after_them(tmp_path: Path) -> None:
    good = offer()
    many = "".join(f"a=candidate:{n} 1 udp {n} {BYSTANDER} {n + 1000} typ host\r\n" for n in range(60))
    with far_end(tmp_path) as (row, number):
        row.nft("far", COUNTED)
        for bad in ("v=0", "\0" * 1000, "m=" * 20_000, without(good, "m=")):
            with pytest.raises(CallError, match="refused: "):
                ask(row, bad)
        for odd in (
            good.replace("m=application", "m=audio"), without(good, "a=fingerprint"), without(good, "a=ice-"),
            good.replace("a=fingerprint:", "a=fingerprint:x"), good.replace("o=", "o=" + "9" * 5000),
        ):  # fmt: skip
            with contextlib.suppress(CallError):  # answered or not: whoever wrote it gets no further
                ask(row, odd)
        # Whom an offer names is asked nothing: the far end answers who comes by itself.
        assert "a=candidate:" in ask(row, good + many)
        assert [one["kept"] for one in end(pages(row, 1))] == [True]
        # Who was answered and never came is waited for no longer than twenty seconds.
        rig.eventually(lambda: not children(number), "the sessions to end", 60)
        assert "counter packets 0 " in row.run("far", "nft list table inet t")


def test_who_has_not_shown_the_sessions_password_is_given_less_than_was_sent(tmp_path: Path) -> None:
    """A stranger who guesses the port, or writes another's address as the sender's."""
    with far_end(tmp_path) as (row, _):
        answer = ask(row, offer())
        ports = {int(line.split()[5]) for line in answer.splitlines() if line.startswith("a=candidate:")}
        assert ports
        with standing_in(row.names["site"]), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            sent = came = 0
            for _ in range(200):
                bare = struct.pack("!HHI", 1, 0, 0x2112A442) + secrets.token_bytes(12)
                named = b"x" * 40
                wrong = (
                    struct.pack("!HHI", 1, 24, 0x2112A442) + secrets.token_bytes(12) + b"\x00\x08\x00\x14" + bytes(20)
                )
                for data in (bare, named, wrong, secrets.token_bytes(60), b"\x16\xfe\xfd" + bytes(60)):
                    sent += stranger.sendto(data, (row.address["far"], min(ports)))
            stranger.settimeout(2)
            with contextlib.suppress(TimeoutError):
                while True:
                    came += len(stranger.recv(2048))
    assert came < sent
