"""The command line: what it prints, how it ends, and that bad input gets one clear line."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tarnfell.cli.calling import _progress
from tarnfell.cli.common import host_port
from tarnfell.exchange.writing import write_capture
from tarnfell.server.http.app import create_app
from tarnfell.store.db import open_database
from tarnfell.store.engagements import add_engagement
from tarnfell.wire.kinds.calls import LiveDirection, LiveSecond
from tests import rig
from tests.exchange.test_capture import packets
from tests.exchange.test_echolog import LINUX

REFERENCE = Path(__file__).parent / "reference"


def test_analyse_gives_the_reference_fields() -> None:
    file = REFERENCE / "traces" / "bursty-loss.csv"
    done = rig.cli_here("analyse", str(file), "--ie", "0", "--bpl", "25.1", "--json")
    assert done.returncode == 0
    (stream,) = json.loads(done.stdout)["streams"]
    expected = json.loads(file.with_suffix(".json").read_text())
    assert {name: stream[name] for name in expected} == pytest.approx(expected, rel=1e-3)


def test_analyse_says_it_in_words() -> None:
    done = rig.cli_here("analyse", str(REFERENCE / "traces" / "clean.csv"), "--codec", "g711u")
    assert re.search(r"4\.35 MOS · 3000 sent, 0 lost, 0 late", done.stdout)


def test_analyse_of_a_stream_of_which_nothing_arrived() -> None:
    done = rig.cli_here("analyse", str(REFERENCE / "traces" / "nothing-arrived.csv"), "--codec", "g711u")
    assert (done.returncode, done.stderr) == (1, "")
    assert "Nothing arrived." in done.stdout


def test_quality_and_plan() -> None:
    done = rig.cli_here(
        "quality", "--one-way-ms", "150", "--loss-pct", "0", "--burst-ratio", "1", "--codec", "g711u", "--json"
    )
    assert json.loads(done.stdout)["mos"] == pytest.approx(4.3275, abs=1e-3)
    plan = json.loads(rig.cli_here("plan", "--codec", "g729a", "--ptime", "20", "--calls", "10", "--json").stdout)
    assert plan["ipv4_kbps"] == 24
    assert plan["run_s"] == 60


@pytest.mark.parametrize("verb", ["call", "analyse", "quality", "plan", "farend", "serve", "clerk", "demo", "probe"])
def test_each_verb_explains_itself(verb: str) -> None:
    done = rig.cli_here(verb, "--help")
    assert done.returncode == 0
    assert len(done.stdout.splitlines()) > 5


@pytest.fixture
def broken(tmp_path: Path) -> Path:
    (tmp_path / "empty.csv").write_text("")
    (tmp_path / "columns.csv").write_text("seq,when\n1,2\n")
    (tmp_path / "text.csv").write_text("seq,sent_us,recv_us\n1,soon,\n")
    (tmp_path / "backwards.csv").write_text("seq,sent_us,recv_us\n1,20,30\n2,10,40\n")
    (tmp_path / "binary.csv").write_bytes(bytes(range(256)) * 10)
    (tmp_path / "key").write_text(rig.KEY)
    (tmp_path / "short-key").write_text("abc")
    return tmp_path


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ("analyse empty.csv --codec g711u", "is empty"),
        ("analyse columns.csv --codec g711u", "no column sent_us or recv_us"),
        ("analyse text.csv --codec g711u", "sent_us is “soon”"),
        ("analyse backwards.csv --codec g711u", "goes backwards"),
        ("analyse binary.csv --codec g711u", "not a text file"),
        ("analyse missing.csv --codec g711u", "no file"),
        ("analyse text.csv", "--codec, or both --ie and --bpl"),
        ("analyse text.csv --codec g711u --ie 3", "either --codec"),
        ("analyse text.csv --codec g711u --buffer -5", "buffer of -5 ms"),
        ("quality --one-way-ms 10 --loss-pct 101 --codec g711u", "0 to 100"),
        ("quality --one-way-ms 10 --loss-pct 1 --burst-ratio 0.5 --codec g711u", "1 or more"),
        ("quality --one-way-ms nan --loss-pct 1 --codec g711u", "0 to 60000"),
        ("plan --codec g711u --ptime 25", "cannot be sent every 25 ms"),
        ("call 127.0.0.1 --codec g999 --key-file key", "No codec is called “g999”"),
        ("call 127.0.0.1 --codec g7231-63 --ptime 20 --key-file key", "its frame is 30 ms"),
        ("call 127.0.0.1 --calls 0 --key-file key", "0 concurrent calls"),
        ("call 127.0.0.1 --calls 10000 --key-file key", "10000 concurrent calls"),
        ("call 127.0.0.1 --dscp 99 --key-file key", "DSCP 99"),
        ("call 127.0.0.1:99999 --key-file key", "not a port"),
        ("call 127.0.0.1 --key-file no-key", "cannot be read"),
        ("call 127.0.0.1 --key-file short-key", "too short"),
        ("farend --bind 203.0.113.9 --key-file key", "cannot listen on 203.0.113.9"),
        ("farend --bind 127.0.0.1 --media-ports 5 --key-file key", "not a range of ports"),
        ("call 127.0.0.1 --ptime soon --key-file key", "invalid int value"),
    ],
)
def test_wrong_use_ends_with_2_and_one_line(broken: Path, arguments: str, words: str) -> None:
    named = {f.name for f in broken.iterdir()} | {"missing.csv", "no-key"}
    done = rig.cli_here(*(str(broken / a) if a in named else a for a in arguments.split()))
    assert done.returncode == 2, done.stderr
    assert words in done.stderr
    assert "Traceback" not in done.stderr
    assert done.stdout == ""


def test_call_to_nobody_ends_with_1(broken: Path) -> None:
    done = rig.cli("call", rig.own_address(), "--key-file", str(broken / "key"))
    assert (done.returncode, done.stdout) == (1, "")
    assert done.stderr.count("\n") == 1
    assert "no far end listens" in done.stderr


def test_call_in_words_and_far_end_makes_its_key(tmp_path: Path) -> None:
    far, key = rig.own_address(), tmp_path / "new" / "key"
    arguments = ("-m", "tarnfell.cli", "farend", "--bind", far, "--media-ports", rig.MEDIA_PORTS)
    with rig.process(*arguments, "--key-file", str(key)):
        rig.await_port(far)
        assert key.stat().st_mode & 0o077 == 0
        done = rig.cli("call", far, "--seconds", "2", "--codec", "opus-24", "--key-file", str(key))
    assert done.returncode == 0, done.stderr
    assert re.search(r"call   1 up    4\.\d\d MOS · 100 sent, 0 lost, 0 late", done.stdout)
    assert "both ends on one clock" in done.stdout


def test_a_line_fill_that_is_broken_off_is_judged_as_far_as_it_went(tmp_path: Path) -> None:
    address = rig.own_address()
    with rig.far_end(tmp_path, address) as far:
        command = (
            "bloat",
            address,
            "--key-file",
            str(tmp_path / "key"),
            "--seconds",
            "4",
            "--ways",
            "up,down",
            "--json",
        )
        running = subprocess.Popen(
            [sys.executable, "-m", "tarnfell.cli", *command], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        rig.eventually(lambda: len(rig.processes_below(far.pid)) > 2, "the calls")
        time.sleep(2)
        for one in (*rig.processes_below(far.pid), far.pid):
            rig.kill_hard(one)
        told, problem = running.communicate(timeout=rig.HANGS_S)
        far.wait(rig.HANGS_S)
    assert running.returncode == 1, problem
    assert json.loads(told)["says"][0].startswith("The run was broken off while "), told


def test_a_load_of_small_packets_is_offered_and_counted(tmp_path: Path) -> None:
    address = rig.own_address()
    with rig.far_end(tmp_path, address):
        key = ("--key-file", str(tmp_path / "key"))
        done = rig.cli("load", address, *key, "--bytes", "40", "--rate", "300", "--seconds", "2", "--json")
        told = json.loads(done.stdout)
        one_way = rig.cli("load", address, *key, "--rate", "50", "--seconds", "1", "--direction", "up")
    assert done.returncode == 0, done.stderr
    for way in ("up", "down"):
        assert (told[way]["sent"], told[way]["arrived"], told[way]["loss_pct"]) == (600, 600, 0.0)
        assert told[way]["offered"]["packets_per_s"] == 300
        assert told[way]["offered"]["ip_kbps"] == pytest.approx(300 * 68 * 8 / 1000)
        # A machine that pauses sends the last ones after their time.
        assert len(told[way]["sent_per_s"]) == 2
        assert 0 < sum(told[way]["sent_per_s"]) <= 600
    assert "up: offered 50 packets/s of 60 bytes" in one_way.stdout
    assert "down" not in one_way.stdout
    for wrong in (("--bytes", "19"), ("--rate", "5001"), ("--seconds", "0.5"), ("--dscp", "64")):
        assert rig.cli("load", address, *key, *wrong).returncode == 2


def test_a_quick_look_counts_its_rounds() -> None:
    done = rig.cli("look", "127.0.0.1", "--count", "3", "--interval", "0.1", "--large", "0", "--json")
    if done.returncode == 2:
        assert "needs a right" in done.stderr
        return
    (row,) = json.loads(done.stdout)["series"]
    assert (row["sent"], row["answered"], row["packet_bytes"], row["ttls"]) == (3, 3, 64, [64])
    wrong = rig.cli("look", "127.0.0.1", "--small", "10")
    assert (wrong.returncode, wrong.stderr.count("\n")) == (2, 1)
    assert rig.cli("look", "no-such-name.invalid", "--count", "1").returncode == 1


def test_a_database_that_fails_is_told_in_a_line(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*_: object) -> None:
        raise sqlite3.OperationalError("disk I/O error")

    monkeypatch.setattr("tarnfell.store.people.users", fails)
    told = rig.cli_here("user", "--list", "--data", str(tmp_path))
    assert (told.returncode, told.stderr) == (
        1, "tarnfell: The database cannot be read or written: disk I/O error.\n"
    )  # fmt: skip


def test_user_may_sign_in_after_being_added(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "tarnfell.cli", "user", "ines@merrow.example", "--data", str(tmp_path)]

    def add(password: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            command, input=password + "\n", capture_output=True, text=True, timeout=rig.HANGS_S, check=False
        )

    short = add("short")
    assert (short.returncode, "at least 10" in short.stderr) == (2, True)
    nobody = subprocess.run(
        [*command[:4], "kim", *command[5:]],
        input="a-long-enough-password\n",
        capture_output=True,
        text=True,
        check=False,
    )
    assert (nobody.returncode, "“kim” is not an email address" in nobody.stderr) == (2, True)
    assert add("a-long-enough-password").returncode == 0
    again = add("a-long-enough-password")
    assert (again.returncode, "already a user" in again.stderr) == (2, True)
    person = create_app(tmp_path).test_client()
    body = {"email": "ines@merrow.example", "password": "a-long-enough-password"}
    assert person.post("/api/session", json=body).status_code == 200


def test_server_that_cannot_listen(tmp_path: Path) -> None:
    done = rig.cli("serve", "--data", str(tmp_path), "--bind", "203.0.113.7:8080")
    assert (done.returncode, done.stdout) == (2, "")
    assert "cannot run at 203.0.113.7:8080" in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("farend.example", ("farend.example", 4870)),
        ("farend.example:5000", ("farend.example", 5000)),
        ("192.0.2.1:1", ("192.0.2.1", 1)),
        ("[2001:db8::1]", ("2001:db8::1", 4870)),
        ("[2001:db8::1]:5000", ("2001:db8::1", 5000)),
        ("2001:db8::1", ("2001:db8::1", 4870)),
    ],
)
def test_hosts_with_and_without_ports(text: str, expected: tuple[str, int]) -> None:
    assert host_port(text) == expected


@pytest.mark.parametrize("text", ["", ":80", "host:0", "host:http", "[::1]:70000"])
def test_hosts_that_cannot_be(text: str) -> None:
    with pytest.raises(ValueError, match=r"not a port|Name a host"):
        host_port(text)


def test_progress_says_what_is_missing(capsys: pytest.CaptureFixture[str]) -> None:
    show = _progress(3)
    side = (LiveDirection(sent=50, received=48, reached=50, late=0, jitter_us=1, pdv_us=1),)
    assert show(LiveSecond(second=1, up=side, down=side, rtt_us=None, send_late_max_us=0)) is True
    assert "1 of 3 s · up 48 in, 2 missing · down 48 in, 2 missing" in capsys.readouterr().err


def test_analyse_finds_the_streams_of_a_capture(tmp_path: Path) -> None:
    file = tmp_path / "trunk.pcap"
    file.write_bytes(
        write_capture([*packets(count=200, lost=(50, 51)), *packets(count=100, ssrc=7, kind=111, step=960)])
    )
    report = json.loads(rig.cli_here("analyse", str(file), "--json").stdout)
    first, second = report["streams"]
    assert (first["codec"], first["sent"], first["lost"], first["delay_min_ms"]) == ("g711a", 200, 2, None)
    assert first["mos"] > 4
    assert (second["codec"], second["mos"]) == (None, None)
    named = json.loads(rig.cli_here("analyse", str(file), "--json", "--codec", "opus-24").stdout)["streams"][1]
    assert named["mos"] > 4
    text = rig.cli_here("analyse", str(file)).stdout
    assert "2 RTP streams" in text
    assert "name the codec to have quality" in text


def test_analyse_reads_a_log_of_ping(tmp_path: Path) -> None:
    file = tmp_path / "ping.txt"
    file.write_text(LINUX)
    report = json.loads(rig.cli_here("analyse", str(file), "--json").stdout)
    assert (report["sent"], report["lost"], report["samples"][0]) == (7, 3, [0.0, 0.45])
    assert "cannot judge a phone line" in rig.cli_here("analyse", str(file)).stdout


def test_analyse_of_a_capture_without_calls_fails(tmp_path: Path) -> None:
    file = tmp_path / "empty.pcap"
    file.write_bytes(write_capture([]))
    assert rig.cli_here("analyse", str(file)).returncode == 1
    file.write_bytes(write_capture(packets())[:3])
    done = rig.cli_here("analyse", str(file), "--codec", "g711a")
    assert (done.returncode, done.stderr.count("\n")) == (2, 1)


def test_logs_of_ping_along_the_path_become_one_picture(tmp_path: Path) -> None:
    """Ten minutes each; loss begins at the provider's edge, the gateway is slow for itself."""
    for name, host, rtt, lost in (
        ("a", "192.0.2.1", 60, 0),
        ("b", "198.51.100.1", 9, 10),
        ("c", "203.0.113.9", 20, 10),
    ):
        lines = [
            f"2026-11-25 09:{n // 60:02}:{n % 60:02} 64 bytes from {host}: icmp_seq={n + 1} ttl=64 time={rtt} ms"
            for n in range(600)
            if not lost or n % lost != 5
        ]
        (tmp_path / name).write_text("\n".join(lines))
    places = [f"--ping={role}={tmp_path / name}" for role, name in (("far-end", "c"), ("gateway", "a"), ("edge", "b"))]
    report = json.loads(rig.cli_here("analyse", *places, "--json").stdout)
    assert [(p["role"], p["file"], p["host"]) for p in report["places"]] == [
        ("gateway", "a", "192.0.2.1"), ("edge", "b", "198.51.100.1"), ("far-end", "c", "203.0.113.9"),
    ]  # fmt: skip
    assert [(leg["leg"], round(leg["loss_pct"]), leg["p50_ms"]) for leg in report["legs"]] == [
        ("inside", 0, 9), ("line", 10, 0), ("beyond", 0, 11),
    ]  # fmt: skip
    assert (report["minutes"], report["not_faults"][0]["key"]) == (10, "hop-slow")
    text = rig.cli_here("analyse", *places).stdout
    assert "10.0 % of echoes are lost on the leg “line”, up to the provider’s edge." in text
    for wrong, says in (
        ("roof=x", "with one of gateway, edge, outside, far-end as the place"),
        ("edge", "takes PLACE=FILE"),
        (f"edge={tmp_path / 'none'}", "There is no file"),
    ):
        refused = rig.cli_here("analyse", "--ping", wrong)
        assert (refused.returncode, says in refused.stderr) == (2, True), refused.stderr
    twice = rig.cli_here("analyse", places[0], places[0])
    assert "given twice" in twice.stderr
    assert "Name the file" in rig.cli_here("analyse").stderr


def test_a_log_says_what_was_not_understood(tmp_path: Path) -> None:
    file = tmp_path / "ping.txt"
    file.write_bytes((LINUX + "what is this\n").encode("utf-16"))
    report = json.loads(rig.cli_here("analyse", str(file), "--json").stdout)
    assert (report["sent"], report["notes"]) == (7, ["1 line was not understood."])
    assert report["not_understood"][0]["text"] == "what is this"
    assert f"line {report['not_understood'][0]['line']}: what is this" in rig.cli_here("analyse", str(file)).stdout


def test_users_are_listed_changed_and_removed(tmp_path: Path) -> None:
    def user(*arguments: str, password: str = "a-long-enough-password") -> subprocess.CompletedProcess[str]:
        return rig.cli_here("user", *arguments, "--data", str(tmp_path), typed=password + "\n")

    assert "There is no user" in user("ines@merrow.example", "--new-password").stderr
    assert user("ines@merrow.example", "--name", "Ines Harrow").returncode == 0
    assert json.loads(user("--list", "--json").stdout) == {
        "users": [{"email": "ines@merrow.example", "name": "Ines Harrow", "roles": {}}]
    }
    assert user("ines@merrow.example", "--new-password", password="another-long-password").returncode == 0
    person = create_app(tmp_path).test_client()
    body = {"email": "ines@merrow.example", "password": "another-long-password"}
    assert person.post("/api/session", json=body).status_code == 200
    db = open_database(tmp_path)
    add_engagement(db, "ferries", "Ferries")
    assert "belongs to Ferries as colleague" in user(
        "ines@merrow.example", "--engagement", "ferries", "--role", "colleague"
    ).stdout  # fmt: skip
    assert user("mairi@ferries.example", "--engagement", "ferries", "--role", "customer").returncode == 0
    told = {one["email"]: one["roles"] for one in json.loads(user("--list", "--json").stdout)["users"]}
    assert told == {"ines@merrow.example": {"ferries": "colleague"}, "mairi@ferries.example": {"ferries": "customer"}}
    assert "There is no engagement" in user("ines@merrow.example", "--engagement", "nothing").stderr
    # Nobody there could give the engagement to anybody: whoever is added next can.
    assert user("tobias@merrow.example").stdout == "tobias@merrow.example may sign in now.\n"
    assert "ferries" in user("--list").stdout
    assert (
        "the last consultant" in user("tobias@merrow.example", "--engagement", "ferries", "--role", "colleague").stderr
    )
    link = json.loads(user("ines@merrow.example", "--reset-link", "--json").stdout)["link"]
    fresh = {"password": "yet-another-password"}
    assert person.post(f"/api/welcome/{link.removeprefix('/reset/')}/password", json=fresh).status_code == 200
    assert person.get("/api/session").status_code == 401
    assert person.post("/api/session", json=body | fresh).status_code == 200
    assert "There is no user" in user("nobody@merrow.example", "--reset-link").stderr
    for email in ("mairi@ferries.example", "tobias@merrow.example"):
        assert user(email, "--remove").returncode == 0
    assert "may not sign in any more" in user("ines@merrow.example", "--remove").stdout
    assert person.get("/api/session").status_code == 401
    assert json.loads(user("--list", "--json").stdout) == {"users": []}
    assert user("--list", "--remove").returncode == 2
    assert user().returncode == 2


def test_a_server_nobody_can_sign_in_to_prints_the_code_of_the_first_account(tmp_path: Path) -> None:
    port = rig.free_port() if hasattr(rig, "free_port") else 18_081
    with rig.process("-m", "tarnfell.cli", "serve", "--data", str(tmp_path), "--bind", f"127.0.0.1:{port}") as server:
        rig.await_port("127.0.0.1", port)
        code = (tmp_path / "first-account-code").read_text().strip()
        assert re.fullmatch(r"[a-z0-9]{4}(-[a-z0-9]{4}){3}", code)
        assert server.poll() is None


@pytest.mark.parametrize("address", ["8081", "127.0.0.1:"])
def test_websocket_wants_an_address_and_a_port(tmp_path: Path, address: str) -> None:
    done = rig.cli("serve", "--data", str(tmp_path / "data"), "--websocket", address)
    assert done.returncode == 2
    assert f"Write --websocket as ADDR:PORT, such as 127.0.0.1:8081, not “{address}”." in done.stderr
    assert not (tmp_path / "data").exists()
