"""Registering at a registrar that asks who one is, as a server or as a proxy."""

from __future__ import annotations

import re
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.probe.asking import registrar as asked
from tarnfell.probe.asking.registrar import registrar
from tarnfell.wire import sip
from tarnfell.wire.kinds.signalling import SipAccount
from tests.probe.test_asking import udp_server

USER, PASSWORD = "200", "s3cret"
CHALLENGE = sip.Challenge("ferries.example", "5e1f")


@pytest.mark.parametrize(
    ("status", "asks", "shown"),
    [
        ("401 Unauthorized", "WWW-Authenticate", "Authorization"),
        ("407 Proxy Authentication Required", "Proxy-Authenticate", "Proxy-Authorization"),
    ],
)
def test_who_one_is_is_shown_under_the_name_it_was_asked_by(status: str, asks: str, shown: str) -> None:
    seen: list[tuple[str, str | None, bool]] = []

    def reply(data: bytes) -> bytes:
        request = sip.Message.parse(data)
        told = request.get(shown)
        met = told is not None and sip.is_met(told, CHALLENGE, USER, PASSWORD, request.method)
        seen.append((request.method, request.get("Expires"), met))
        if request.method == "REGISTER" and not met:
            return sip.answer(request, status, ("127.0.0.1", 5060), "r", (asks, CHALLENGE.header())).serialize()
        wanted = "200 OK" if request.method != "INVITE" else "480 Temporarily Unavailable"
        return sip.answer(request, wanted, ("127.0.0.1", 5060), "r").serialize()

    with udp_server(reply) as port:
        found = registrar(SipAccount("127.0.0.1", USER, PASSWORD, port, "udp", "ferries.example"))
    assert [one for one in seen if one[0] == "REGISTER"] == [
        ("REGISTER", "120", False), ("REGISTER", "120", True), ("REGISTER", "0", False), ("REGISTER", "0", True),
    ]  # fmt: skip
    assert found.failure is None
    assert PASSWORD not in str(found)
    # Nor what was made of it.
    sent = [one.sent for one in found.messages if f"{shown}: " in one.sent]
    assert len(sent) == 2
    for one in sent:
        assert re.findall(r'response="([^"]*)"', one) == ["…"]


def test_the_call_to_oneself_is_waited_for_and_no_longer(monkeypatch: pytest.MonkeyPatch) -> None:
    now, waited, sent = [100.0], list[float](), list[str]()

    class Alone(asked._WithRegistrar):
        def __init__(self) -> None:
            self.own, self._number, self._is_up = ("192.0.2.7", 5060), 3, False  # type: ignore[assignment]

        def _shown(self, method: str, *more: tuple[str, str], body: str = "") -> Any:
            sent.append(method)
            return SimpleNamespace(status=200)

        def _inside(self, _: object, method: str, number: int) -> Any:
            return f"{method} {number}"

        def send(self, message: Any) -> None:
            sent.append(message)

        def ask(self, message: Any) -> None:
            sent.append(message)

        def arrivals(self, for_s: float = 0.0) -> Any:
            waited.append(for_s)
            assert len(waited) < 9
            now[0] += 4.0

    monkeypatch.setattr(asked, "time", SimpleNamespace(monotonic=lambda: now[0]))
    Alone()._call_oneself()
    assert (waited, sent) == ([asked.RINGS_S, asked.RINGS_S - 4], ["INVITE", "ACK 3", "BYE 4"])
