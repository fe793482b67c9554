"""The questions of a check by themselves, on loopback: what comes back, and what silence, refusal and lies become."""

from __future__ import annotations

import contextlib
import hashlib
import http.server
import json
import os
import resource
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest

from tarnfell.cli import checking
from tarnfell.media.tracing.errors import NetworkError
from tarnfell.media.tracing.tracer import path
from tarnfell.probe.asking import echo, ladder, names, services, signalling, translation
from tarnfell.probe.asking.services import ask_all
from tarnfell.standin.names import answer
from tarnfell.wire import dns, sip
from tarnfell.wire.icmp import Echo
from tarnfell.wire.kinds.check import MAX_SERVICES, CheckArguments, CheckResult, ServiceAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.path import Method
from tests import rig

CERTIFICATE = Path(__file__).parents[1] / "reference" / "certificate.pem"
MAY_ECHO = pytest.mark.skipif(os.geteuid() != 0, reason="needs a right to ICMP")


@contextlib.contextmanager
def udp_server(reply: Callable[[bytes], bytes | None]) -> Iterator[int]:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.bind(("127.0.0.1", 0))

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    data, source = sock.recvfrom(4096)
                    if data == b"end":
                        return
                    told = reply(data)
                    if told is not None:
                        sock.sendto(told, source)

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield sock.getsockname()[1]
        finally:
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as ender:
                ender.sendto(b"end", sock.getsockname())
            thread.join(10)


@contextlib.contextmanager
def tcp_server(serve_one: Callable[[socket.socket], None]) -> Iterator[int]:
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    connection, _ = listener.accept()
                    with connection, contextlib.suppress(OSError):
                        serve_one(connection)

        threading.Thread(target=serve, daemon=True).start()
        yield listener.getsockname()[1]
        listener.shutdown(socket.SHUT_RDWR)


@MAY_ECHO
def test_echoes_answer_here_and_say_who_refuses() -> None:
    (here,) = echo.echoes([("gateway", "127.0.0.1")], 5, 0.01)
    assert (here.role, here.sent, here.answered, here.packet_bytes) == ("gateway", 5, 5, 64)
    assert len(here.rtt_ms) == 5
    assert all(0 <= ms < 1000 for ms in here.rtt_ms)
    assert here.ttl == 64
    both = echo.echoes([("gateway", "127.0.0.1"), ("far-end", "::1")], 2, 0.01)
    assert [one.answered for one in both] == [2, 2]


@MAY_ECHO
def test_times_of_echoes_are_told_in_microseconds_in_the_order_sent() -> None:
    with contextlib.closing(echo.TimedEchoes([("gateway", "127.0.0.1")])) as echoes:
        one = echoes.found[0]
        one.sent_us.update({1: 1_000, 2: 2_000, 3: 3_000})
        one.rtt_ms.update({3: 12.3456, 1: 0.04})
        assert echoes.times_of(0) == ((1_000, 2_000, 3_000), (40, -1, 12_346))


@MAY_ECHO
def test_errors_about_others_push_no_answer_out() -> None:
    """A raw socket is given every ICMP message of the machine; ten thousand would fill any queue."""
    asked = echo.TimedEchoes([("gateway", "127.0.0.1")], (64, 1400))
    asked.send_round()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as noisy:
        for _ in range(10_000):
            noisy.sendto(bytes(1000), ("127.0.0.1", 9))
    asked.send_round()
    asked.listen(time.monotonic() + 0.2)
    asked.close()
    assert [(len(one.sent_us), len(one.rtt_ms), one.packet_bytes) for one in asked.found] == [(2, 2, 64), (2, 2, 1400)]


@MAY_ECHO
def test_a_packet_larger_than_the_link_is_not_cut_up() -> None:
    (here,) = echo.echoes([("gateway", "127.0.0.1")], 1, 0.01, packet_bytes=65536 + 28, wait_s=0.2)
    assert (here.answered, here.too_large) == (0, True)


@pytest.mark.parametrize(
    ("kind", "code", "too_large", "refused_by"),
    [(3, 4, True, None), (3, 1, False, "192.0.2.1"), (11, 4, False, "192.0.2.1")],
)
def test_an_error_is_told_of_the_echo_whose_number_it_quotes(
    monkeypatch: pytest.MonkeyPatch, kind: int, code: int, too_large: bool, refused_by: str | None
) -> None:
    """As the kernel hands it out on a socket that is not raw: the echo's own ICMP header comes with it (RFC 792)."""
    monkeypatch.setattr(echo, "_open", lambda family: (socket.socket(socket.AF_INET, socket.SOCK_DGRAM), False))
    one, other = (echo.Echoed("outside", address, 64) for address in ("203.0.113.53", "203.0.113.99"))
    asker = echo._Asker(socket.AF_INET, [one, other], 64)
    asker.sock.setblocking(False)
    asker._sent = {300: (one, 0), 44: (other, 0)}
    quoted = Echo(7, 300, b"").serialize(False)
    errors = iter([NetworkError(kind, code, 1492, 90, "192.0.2.1", quoted), None])
    monkeypatch.setattr(echo, "next_error", lambda sock: next(errors))
    asker.take()
    asker.close()
    assert (one.too_large, one.next_mtu, one.refused_by) == (too_large, 1492 if too_large else None, refused_by)
    assert (other.too_large, other.refused_by) == (False, None)
    assert list(asker._sent) == [44]


@MAY_ECHO
def test_without_a_right_to_raw_sockets_echoes_are_asked_the_other_way(monkeypatch: pytest.MonkeyPatch) -> None:
    real = socket.socket

    def without_raw(family: int = -1, kind: int = -1, *more: int) -> socket.socket:
        if kind == socket.SOCK_RAW:
            raise PermissionError(1, "Operation not permitted")
        return real(family, kind, *more)

    allowed = Path("/proc/sys/net/ipv4/ping_group_range").read_text().split()
    monkeypatch.setattr(echo.socket, "socket", without_raw)
    if int(allowed[0]) > 0:  # nobody may
        with pytest.raises(echo.CannotAsk, match="needs a right"):
            echo.echoes([("gateway", "127.0.0.1")], 2, 0.01)
        return
    (here,) = echo.echoes([("gateway", "127.0.0.1")], 2, 0.01)
    assert here.answered == 2


@pytest.mark.parametrize("method", ["udp", pytest.param("icmp", marks=MAY_ECHO), pytest.param("tcp", marks=MAY_ECHO)])
def test_the_path_to_this_machine_is_one_hop(method: Method) -> None:
    found = path("127.0.0.1", 9, rounds=3, dscp=46, wait_s=0.5, method=method)
    assert (found.reached, found.method) == (True, method)
    (hop,) = found.hops
    assert (hop.ttl, hop.address, hop.sent, len(hop.rtt_ms)) == (1, "127.0.0.1", 3, 3)
    if method == "udp":
        assert hop.dscp_seen == (46 if found.sees_marking else None)


KNOWN = {"meet.example": "192.0.2.7"}


def test_a_name_server_is_told_from_one_that_lies_and_from_silence(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(names, "WAIT_S", 0.2)
    with udp_server(lambda data: answer(data, KNOWN)) as port:
        told = names.ask("127.0.0.1", "meet.example", port=port)
        assert (told.rcode, told.addresses, told.transport) == (0, ("192.0.2.7",), "udp")
        assert told.took_ms is not None
        assert names.ask("127.0.0.1", "other.example", port=port).rcode == dns.NXDOMAIN
    forged = [b"\xff\xff"]  # another question's number first, then silence

    def lie(data: bytes) -> bytes | None:
        real = answer(data, KNOWN)
        return forged.pop() + real[2:] if forged and real else None

    with udp_server(lie) as port:
        told = names.ask("127.0.0.1", "meet.example", port=port)
        assert (told.rcode, told.took_ms, told.failure) == (None, None, "no answer")
    assert names.ask("127.0.0.1", "meet.example", port=port).failure == "no name server listens there"
    assert "no name that can be asked for" in str(names.ask("127.0.0.1", "a..b").failure)


def test_what_does_not_fit_is_asked_for_over_tcp() -> None:
    def over_tcp(connection: socket.socket) -> None:
        length = int.from_bytes(connection.recv(2), "big")
        told = answer(connection.recv(length), KNOWN) or b""
        time.sleep(0.3)
        connection.sendall(len(told).to_bytes(2, "big") + told)

    def truncated(data: bytes) -> bytes:
        return data[:2] + b"\x83\x80" + data[4:]

    with tcp_server(over_tcp) as port, contextlib.closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as sock:
        sock.bind(("127.0.0.1", port))
        thread = threading.Thread(target=lambda: sock.sendto(truncated((got := sock.recvfrom(512))[0]), got[1]))
        thread.start()
        began = time.monotonic()
        told = names.ask("127.0.0.1", "meet.example", port=port)
        took_ms = 1000 * (time.monotonic() - began)
        thread.join(10)
    assert (told.transport, told.addresses) == ("tcp", ("192.0.2.7",))
    assert told.took_ms is not None
    assert 300 <= told.took_ms <= took_ms


def asked(port: int, protocol: str = "tcp", sha256: str = "") -> ServiceAsked:
    return ServiceAsked("Meetings", "127.0.0.1", port, protocol, sha256)  # type: ignore[arg-type]


def test_services_open_refused_and_answered_by_somebody_else() -> None:
    with tcp_server(lambda _: None) as open_, udp_server(lambda data: b"SIP/2.0 200 OK\r\n\r\n") as sip:
        found = ask_all(
            [asked(open_), asked(rig.free_port()), asked(sip, "sip"), asked(sip, "stun"), asked(sip, "dns")]
        )
    assert [one.state for one in found] == ["open", "refused", "open", "other", "other"]
    assert found[2].says == "200 OK"
    assert [one.asked.protocol for one in found] == ["tcp", "tcp", "sip", "stun", "dns"]


def test_a_service_whose_name_has_no_address_was_not_asked(monkeypatch: pytest.MonkeyPatch) -> None:
    def unknown(*_: object, **__: object) -> object:
        raise socket.gaierror(socket.EAI_NONAME, "no address")

    monkeypatch.setattr(socket, "getaddrinfo", unknown)
    found = ask_all([ServiceAsked("Meetings", "meet.example", 443, kind) for kind in ("tcp", "tls", "https", "stun")])
    assert [(one.state, one.took_ms) for one in found] == [("nameless", None)] * 4


def test_each_step_of_http_is_timed_and_failures_of_the_server_are_told() -> None:
    answers = {
        "/": b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello",
        "/chunks": b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n",
        "/gone": b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n",
        "/broken": b"HTTP/1.1 503 Service Unavailable\r\nContent-Length: 0\r\n\r\n",
        "/cut": b"HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nhello",
        "/strange": b"220 mail.example\r\n",
        "/silent": b"",
    }
    asked_for: list[bytes] = []

    def serve(connection: socket.socket) -> None:
        connection.settimeout(5)
        head = connection.recv(4096)
        asked_for.append(head)
        connection.sendall(answers[head.split()[1].decode()])

    with tcp_server(serve) as port:
        found = {
            where: ask_all([ServiceAsked("Meetings", "127.0.0.1", port, "http", "", where)])[0] for where in answers
        }
    assert {where: one.state for where, one in found.items()} == {
        "/": "open", "/chunks": "open", "/gone": "open", "/broken": "other", "/cut": "open", "/strange": "other",
        "/silent": "other",
    }  # fmt: skip
    told = {where: one.http for where, one in found.items()}
    assert told["/"] is not None
    assert (told["/"].status, told["/"].body_bytes, told["/"].whole, told["/"].tls_ms) == (200, 5, True, 0.0)
    assert told["/"].name_ms == 0.0
    assert told["/chunks"] is not None
    assert (told["/chunks"].body_bytes, told["/chunks"].whole) == (3, True)
    assert told["/cut"] is not None
    assert (told["/cut"].body_bytes, told["/cut"].whole) == (5, False)
    assert found["/gone"].says == "404 Not Found"
    assert "503 Service Unavailable" in found["/broken"].says
    one = told["/"]
    assert found["/"].took_ms == pytest.approx(one.name_ms + one.connect_ms + one.tls_ms + one.first_byte_ms)
    assert asked_for[0].startswith(b"GET / HTTP/1.1\r\n")
    assert f"Host: 127.0.0.1:{port}".encode() in asked_for[0]


def test_the_first_byte_and_the_last_are_waited_for_and_timed_each_by_itself() -> None:
    waited_s: list[float] = []

    def serve(connection: socket.socket) -> None:
        connection.recv(4096)
        began = time.monotonic()
        time.sleep(0.05)
        first = time.monotonic()
        connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhe")
        time.sleep(0.2)
        waited_s.extend((first - began, time.monotonic() - first))
        connection.sendall(b"llo")

    with tcp_server(serve) as port:
        began = time.monotonic()
        (found,) = ask_all([ServiceAsked("Meetings", "127.0.0.1", port, "http", "", "/")])
        all_ms = (time.monotonic() - began) * 1000
    assert found.http is not None
    # No shorter than the server took, by its own clock, and together no longer than it all.
    assert found.http.first_byte_ms >= 1000 * waited_s[0]
    assert found.http.last_byte_ms >= 1000 * waited_s[1] - (found.http.first_byte_ms - 1000 * waited_s[0])
    assert found.http.last_byte_ms > 0
    assert found.http.first_byte_ms + found.http.last_byte_ms <= all_ms


def test_services_not_asked_any_more_are_left_out_and_not_told_as_failed() -> None:
    assert ask_all([asked(rig.free_port())], lambda: False) == ()


def test_silence_over_udp_is_filtered(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "WAIT_S", 0.3)
    with udp_server(lambda _: None) as port:
        (found,) = ask_all([asked(port, "stun")])
    assert (found.state, found.took_ms) == ("filtered", None)


def test_a_certificate_is_the_expected_one_or_somebody_elses(monkeypatch: pytest.MonkeyPatch) -> None:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(CERTIFICATE)
    text = CERTIFICATE.read_text()
    digest = hashlib.sha256(ssl.PEM_cert_to_DER_cert(text[text.index("-----BEGIN CERTIFICATE") :])).hexdigest()

    def shake(connection: socket.socket) -> None:
        connection.settimeout(5)
        context.wrap_socket(connection, server_side=True).close()

    with tcp_server(shake) as port:
        colons = ":".join(digest[i : i + 2] for i in range(0, 64, 2)).upper()
        ours, same, other, nobodys = ask_all(
            [asked(port, "tls", digest), asked(port, "tls", colons), asked(port, "tls", "0" * 64), asked(port, "tls")]
        )
    assert (ours.state, ours.trusted, ours.sha256) == ("open", True, digest)
    assert (same.state, same.trusted) == ("open", True)
    assert (other.state, other.trusted) == ("other", False)
    assert "another certificate" in other.says
    assert (nobodys.state, nobodys.trusted) == ("other", False)
    assert "not to be trusted" in nobodys.says
    with tcp_server(lambda connection: connection.sendall(b"HTTP/1.1 400 no TLS here\r\n\r\n")) as port:
        (plain_text,) = ask_all([asked(port, "tls")])
    assert (plain_text.state, plain_text.trusted) == ("other", None)
    monkeypatch.setattr(services, "WAIT_S", 0.3)
    with tcp_server(lambda connection: connection.recv(4096) and connection.recv(1) and None) as port:
        (stalled,) = ask_all([asked(port, "tls")])
    assert stalled.state == "stalled"


def test_a_check_that_is_stopped_asks_no_more(tmp_path: Path) -> None:
    told: list[CheckResult] = []
    result = ladder.check(CheckArguments("127.0.0.1", rig.free_port()), lambda: False, told.append)
    assert (result.echoes, result.path, result.reach, result.took) == ((), None, None, ())
    assert result.far_address == "127.0.0.1"
    assert told == [result]


SILENCES_S = (0.2, 0.4)


def test_sockets_are_silent_for_as_long_as_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    address = rig.own_address()
    monkeypatch.setattr(translation, "SILENCES_S", SILENCES_S)
    with rig.far_end(tmp_path, address):
        began = time.monotonic()
        found = translation.translation(address, rig.CONTROL_PORT, rig.KEY.encode())
        assert time.monotonic() - began >= max(SILENCES_S)
    assert [(one.silent_s, one.heard) for one in found.kept] == [(s, True) for s in SILENCES_S]


def test_who_does_not_answer_is_asked_three_times_and_no_more(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(translation, "WAIT_S", 0.05)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as silent:
        silent.bind(("127.0.0.1", 0))
        asker = translation._Socket(socket.AF_INET, "127.0.0.1", "127.0.0.1")
        try:
            assert asker.ask(silent.getsockname()[1]) is None
        finally:
            asker.sock.close()
        silent.setblocking(False)
        came = {silent.recv(2048) for _ in range(translation.TRIES)}
        assert len(came) == translation.TRIES == 3  # each a transaction of its own
        with pytest.raises(BlockingIOError):
            silent.recv(2048)


@pytest.mark.parametrize(
    ("description", "elsewhere"),
    [
        (sip.description("192.0.2.7", 4006), "192.0.2.7 port 4006"),
        ("v=0\r\n", "nowhere: the description of the session names no media that can be read"),
    ],
)
def test_media_that_is_wanted_elsewhere_is_not_sent_there(description: str, elsewhere: str) -> None:
    talk = SimpleNamespace(far=("198.51.100.9", 5060))
    assert signalling._WithFarEnd._talk(talk, None, description) == elsewhere  # type: ignore[arg-type]


def test_a_whole_check_tells_each_answer_and_crosses_the_wire(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    address, told = rig.own_address(), list[CheckResult]()
    monkeypatch.setattr(translation, "SILENCES_S", SILENCES_S)
    began = time.monotonic()
    with rig.far_end(tmp_path, address):
        here = ("127.0.0.1",)
        wanted = CheckArguments(
            address, rig.CONTROL_PORT, rig.KEY, gateway=here[0], names=("a.example",), resolvers=here
        )
        result = ladder.check(wanted, tell=told.append)
    assert [len(one.took) for one in told] == list(range(12))
    assert [one.question for one in result.took] == [
        "path", "echoes", "large-echoes", "names", "services", "far-end", "ports", "way-back", "signalling",
        "registrar", "translation",
    ]  # fmt: skip
    whole_ms = 1000 * (time.monotonic() - began)
    assert all(one.ms >= 0 for one in result.took)
    assert 1000 * max(SILENCES_S) * 0.5 < sum(one.ms for one in result.took) < whole_ms
    assert result.reach is not None
    assert result.reach.key_fits
    assert [(one.dscp, one.failure, one.bound) for one in result.media] == [(m, None, True) for m in (46, 34, 24, 0)]
    for one in result.media:
        assert (one.sent_up, one.sent_down) == (50, 50)
        assert [mark.dscp for mark in (*one.marks_up, *one.marks_down)] == [one.dscp] * 2
    found = result.translation
    assert found is not None
    assert [(one.address, one.from_port) for one in found.mapped] == [(found.own_address, found.own_port)] * 2
    assert len({one.port for one in found.mapped}) == 2
    assert [(one.silent_s, one.heard) for one in found.kept] == [(s, True) for s in SILENCES_S]
    ports = result.ports
    assert ports is not None
    first, last = (int(one) for one in rig.MEDIA_PORTS.split("-"))
    assert (ports.asked[0], ports.asked[-1], len(ports.asked)) == (first, last, 32)
    assert ports.answered == ports.asked == ports.heard
    back = result.way_back
    assert back is not None
    assert ([hop.address for hop in back.hops], back.reached, back.dscp) == ([found.own_address], True, 46)
    assert [(one.method, one.reached) for one in result.other_paths] == (
        [("icmp", True), ("tcp", True)] if os.geteuid() == 0 else []
    )
    talk = result.signalling
    assert talk is not None
    for transport in ("udp", "tcp", "tls"):
        own = [one for one in talk.messages if one.transport == transport]
        assert [one.sent.partition(" SIP")[0].partition("\r")[0].split(" sip:")[0] for one in own] == [
            "OPTIONS", "SIP/2.0 200 OK", "REGISTER", "SIP/2.0 401 Unauthorized", "REGISTER", "SIP/2.0 200 OK", "INVITE",
            "SIP/2.0 180 Ringing", "SIP/2.0 200 OK", "ACK", "BYE", "SIP/2.0 200 OK",
        ]  # fmt: skip
        assert [one.arrived for one in own] == [one.sent for one in own]
    assert (talk.tls_port, talk.certificate_seen) == (5061, talk.certificate)
    assert [one.transport for one in talk.calls] == ["udp", "tcp", "tls"]
    for call in talk.calls:
        assert (call.far_sent is not None, call.far_arrived is not None, call.elsewhere) == (True, True, "")
        for sent, arrived in ((call.own_sent, call.far_arrived), (call.far_sent, call.own_arrived)):
            assert sent is not None
            assert arrived is not None
            # An end that stood still sends what its second leaves room for.
            assert 0 < len(sent.sent_us) <= 50
            assert (sent.ssrc, sent.dscp) == (arrived.ssrc, 46)
            assert arrived.seq == tuple(range(sent.first_seq, sent.first_seq + len(sent.sent_us)))
            assert set(arrived.dscp) == {46}
            # On loopback the two clocks are one.
            assert all(0 <= at - left < 1_000_000 for left, at in zip(sent.sent_us, arrived.at_us, strict=True))
            assert list(sent.sent_us) == sorted(sent.sent_us)
    assert read(CheckResult, json.loads(json.dumps(plain(result)))) == result


def test_as_many_services_as_may_be_are_asked_at_once() -> None:
    """The server answers nobody before all have asked."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(4096, hard), hard))
    everybody = threading.Barrier(MAX_SERVICES)

    class Held(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            everybody.wait(60)
            self.send_response(204)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    class Server(http.server.ThreadingHTTPServer):
        request_queue_size = MAX_SERVICES

    try:
        with Server(("127.0.0.1", 0), Held) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            one = ServiceAsked("Held", "127.0.0.1", server.server_address[1], "http")
            with pytest.MonkeyPatch.context() as patch:
                patch.setattr("tarnfell.probe.asking.services.WAIT_S", 60.0)
                found = ask_all([one] * MAX_SERVICES)
            server.shutdown()
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    assert {answer.state for answer in found} == {"open"}
    assert len(found) == MAX_SERVICES == 500


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[[service]", "neither TOML nor a CSV"),
        ('[[service]]\nname = "x"\nhost = "y"\nport = 0', "too small"),
        ('[[service]]\nname = "x"\nhost = "y"\nport = 1\nprotocol = "ftp"', "none of tcp"),
        ('[[service]]\nname = "x"\nhost = "y"', "no field “port”"),
        ('[[service]]\nname = "x"\nhost = "y"\nport = 1\nproto = "tcp"', "not known here"),
    ],
)
def test_a_file_of_services_that_cannot_be_read_gets_a_sentence(tmp_path: Path, text: str, says: str) -> None:
    file = tmp_path / "services.toml"
    file.write_text(text)
    done = rig.cli("check", "127.0.0.1", "--services", str(file))
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1
    file.write_text('[[service]]\nname = "Meetings"\nhost = "meet.example"\nport = 443\nprotocol = "tls"\n')
    assert checking.services_of(file) == (ServiceAsked("Meetings", "meet.example", 443, "tls"),)
