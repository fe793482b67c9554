"""A short call's pace, on a clock that the test turns."""

import socket
from types import SimpleNamespace

import pytest

from tarnfell.media import short_call
from tarnfell.media.short_call import PACKETS, ShortCall
from tarnfell.media.sockets import open_media_socket


def test_packets_leave_when_they_are_due_and_catch_up_after_a_pause(monkeypatch: pytest.MonkeyPatch) -> None:
    now = SimpleNamespace(ns=5_000_000_000)
    monkeypatch.setattr(
        short_call, "time", SimpleNamespace(monotonic_ns=lambda: now.ns, time_ns=lambda: 1_000_000_000 + now.ns)
    )
    with (
        open_media_socket(socket.AF_INET, "127.0.0.1") as own,
        open_media_socket(socket.AF_INET, "127.0.0.1") as far,
    ):
        call = ShortCall(own, "127.0.0.1", 46)
        assert (call.turn(), call.sent().sent_us) == (1.0, ())  # nobody to send to yet
        call.begin(far.getsockname())
        assert call.turn() == pytest.approx(0.020)
        now.ns += 19_999_999
        assert call.turn() == pytest.approx(1e-9)
        assert len(call.sent().sent_us) == 1
        now.ns += 1
        call.turn()
        now.ns += 100_000_000  # the machine was busy: five became due
        assert call.turn() == pytest.approx(0.020)
        assert [at - 6_000_000 for at in call.sent().sent_us] == [0, 20_000, *[120_000] * 5]
        now.ns += 10_000_000_000
        assert (call.turn(), call.has_sent_all) == (0.0, True)
        assert (call.turn(), len(call.sent().sent_us)) == (1.0, PACKETS)


def test_when_it_is_over_what_came_is_taken_and_nothing_sent(monkeypatch: pytest.MonkeyPatch) -> None:
    """The end stood still for a second, and what is still due would reach nobody who waits for it."""
    now = SimpleNamespace(ns=5_000_000_000)
    monkeypatch.setattr(short_call, "time", SimpleNamespace(monotonic_ns=lambda: now.ns, time_ns=lambda: now.ns))
    with (
        open_media_socket(socket.AF_INET, "127.0.0.1") as own,
        open_media_socket(socket.AF_INET, "127.0.0.1") as far,
    ):
        call, other = ShortCall(own, "127.0.0.1", 46), ShortCall(far, "127.0.0.1", 46)
        call.begin(far.getsockname())
        call.turn()
        other.begin(own.getsockname())
        now.ns += 1_000_000_000
        other.turn()
        assert other.has_sent_all
        call.take()
        assert (len(call.arrived().seq), len(call.sent().sent_us)) == (PACKETS, 1)
