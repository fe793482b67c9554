"""Far end, probe, server and demo: what runs until it is stopped."""

from __future__ import annotations

import argparse
import getpass
import logging
import os
import re
import signal
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tarnfell.cli.common import DONE, host_port, loading, port_range, print_report
from tarnfell.farend.certificate import read_or_make
from tarnfell.farend.daemon import FarEndConfig, FarEndError, listen, run
from tarnfell.farend.halves import Halves
from tarnfell.farend.offer import Offer
from tarnfell.media.channel import Channel
from tarnfell.media.host import die_with
from tarnfell.media.keys import read_or_make_key
from tarnfell.probe.agent import agent_status, enrol
from tarnfell.probe.http import Unreachable
from tarnfell.probe.state import AgentError, State
from tarnfell.probe.supervisor import run_agent

if TYPE_CHECKING:  # loaded when used: a far end and a probe need no database
    from tarnfell.store.places import FarEnd

LAST_CLERK_S = 5.0
"""How long a clerk waits for one that is just ending."""


def farend(options: argparse.Namespace) -> int:
    low, high = port_range(options.media_ports)
    key, file, made = read_or_make_key(options.key_file)
    folder = Path(file).parent
    certificate = read_or_make(folder, options.certificate or "")
    browsers = _for_browsers() if options.browser else None
    config = FarEndConfig(options.bind, options.control_port, low, high, folder / "halves", certificate, browsers)
    listener = listen(config)
    # Told, not raised: an exception may come up where it is swallowed, and the far end would go on.
    stop = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())
    if made:
        print(f"Made a key: {file}. Copy it to each probe.", file=sys.stderr)
    print(
        f"Far end at {options.bind}: TCP {listener.getsockname()[1]}, UDP {low}–{high}. Key: {file}. Ctrl-C ends it.",
        file=sys.stderr,
        flush=True,
    )
    try:
        run(listener, config, key, stop)
    finally:
        listener.close()
    return DONE


def _for_browsers() -> Callable[[Channel, Offer, Any], None]:
    """Loaded before anybody calls, so that no session waits for it. Raises FarEndError."""
    try:
        from tarnfell.webrtc.session import serve_browser
    except ImportError as error:
        raise FarEndError(
            f'Calls from browsers need a package more ({error.name or error}): pip install "tarnfell[browser]".'
        ) from None
    return serve_browser


def probe_enrol(options: argparse.Namespace) -> int:
    try:
        about = vars(enrol(options.server, options.token, State(Path(options.state))))
    except Unreachable as error:
        raise AgentError(f"The server at {options.server} cannot be reached: {error}.") from None
    del about["secret"]
    print_report(options, about, lambda a: f"Enrolled as {a['name']} at {a['site']}. Now: tarnfell probe run")
    return DONE


def probe_run(options: argparse.Namespace) -> int:
    run_agent(State(Path(options.state)))
    return DONE


def probe_status(options: argparse.Namespace) -> int:
    status = agent_status(State(Path(options.state)))
    print_report(options, status, lambda s: "\n".join(f"{name:<14} {value}" for name, value in s.items()))
    return DONE


def serve(options: argparse.Namespace) -> int:
    with loading():
        from tarnfell.server.http.serve import Helper, serve_forever
        from tarnfell.store.lock import Held, only_one

    host, port = host_port(options.bind)
    data = Path(options.data)
    if options.websocket and not re.fullmatch(r".+:\d+", options.websocket):
        raise ValueError(f"Write --websocket as ADDR:PORT, such as 127.0.0.1:8081, not “{options.websocket}”.")
    _log_to_stderr(options.log_level)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    parent = os.getpid()

    def helper(*command: str) -> subprocess.Popen[bytes]:
        whole = [sys.executable, "-m", "tarnfell.cli", *command, "--data", options.data]
        return subprocess.Popen([*whole, "--log-level", options.log_level], preexec_fn=lambda: die_with(parent))

    def clerk() -> subprocess.Popen[bytes]:
        command = ["clerk"]
        command += ["--public-address", options.public_address] if options.public_address else []
        command += ["--allow-private-webhooks"] if options.allow_private_webhooks else []
        command += ["--keep-samples", str(options.keep_samples)] if options.keep_samples else []
        return helper(*command)

    helpers: dict[str, Helper] = {"clerk": clerk}
    if options.websocket:
        helpers["websocket"] = lambda: helper("websocket", "--bind", options.websocket)
    try:
        # Before anything is written: a second server would take the first one's far end from it.
        with only_one(data, "server"), _own_far_end(options):
            serve_forever(
                data, host, port if ":" in options.bind else 8080, options.public_address, helpers,
                socket_port=host_port(options.websocket)[1] if options.websocket else None,
            )  # fmt: skip
    except Held as error:
        raise ValueError(str(error)) from None
    except OSError as error:
        raise ValueError(f"The server cannot run at {options.bind} with {options.data}: {error.strerror}.") from None
    return DONE


def websocket(options: argparse.Namespace) -> int:
    from tarnfell.websocket.serve import serve_forever

    host, port = host_port(options.bind)
    _log_to_stderr(options.log_level)
    try:
        serve_forever(Path(options.data), host, port)
    except OSError as error:
        raise ValueError(f"Nothing can be answered over WebSocket at {options.bind}: {error.strerror}.") from None
    return DONE


def _log_to_stderr(level: str) -> None:
    """Rotation is left to the system."""
    logging.basicConfig(level=level.upper(), format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("fontTools").setLevel(logging.WARNING)  # it tells each table of each font of each report


def clerk(options: argparse.Namespace) -> int:
    with loading():
        from tarnfell.clerk.looks import Look as OwnLook
        from tarnfell.clerk.loop import keep_turning
        from tarnfell.probe.asking.looking import Look
        from tarnfell.store.db import open_database
        from tarnfell.store.lock import Held, only_one
        from tarnfell.work.outbox.deliver import Sending

    _log_to_stderr(options.log_level)
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    data = Path(options.data)
    try:
        with only_one(data, "clerk", wait_s=LAST_CLERK_S):
            open_database(data).close()
            sending = Sending(options.public_address, options.allow_private_webhooks)
            look: OwnLook = lambda *how: Look(*how).run()  # noqa: E731
            keep_turning(data, stop, look, partial(_completed, data), sending, options.keep_samples)
    except Held as error:
        raise ValueError(str(error)) from None
    except OSError as error:
        raise ValueError(f"The clerk cannot work with {data}: {error.strerror}.") from None
    return DONE


def _completed(data: Path, half: bytes, far_end: FarEnd | None, token: str) -> bytes:
    """As the clerk asks for it."""
    from tarnfell.clerk.browsers import FarHalfMissing
    from tarnfell.probe.connect import CallError
    from tarnfell.probe.halves import NotKept, Ticket, completed, completed_with
    from tarnfell.store.browsers import SOCKET_HALVES

    try:
        if far_end is None:
            kept = Halves(data / SOCKET_HALVES).take(token)
            if kept is None:
                raise NotKept("this server kept nothing of that test")
            return completed_with(half, kept)
        return completed(half, Ticket(far_end.host, far_end.port, far_end.key, token, until_s=0.0))
    except (CallError, NotKept) as error:
        raise FarHalfMissing(str(error)) from None


@contextmanager
def _own_far_end(options: argparse.Namespace) -> Iterator[None]:
    """A far end beside the server, as a process of its own, if one was asked for; on record for every site."""
    from tarnfell.store import places
    from tarnfell.store.db import open_database, writing
    from tarnfell.store.first_account import make_code
    from tarnfell.store.people import has_users

    data = Path(options.data)
    db = open_database(data)
    try:
        if not has_users(db):
            print(
                "Nobody can sign in yet. Open the server in a browser and make the first account with this one-time "
                f"code:\n\n    {make_code(data)}\n",
                file=sys.stderr,
                flush=True,
            )
        if options.answer is None:
            with writing(db):
                places.retire_server_far_end(db)
            yield
            return
        host, port = host_port(options.answer)
        media = port_range(options.media_ports)
        key, file, _ = read_or_make_key(str(data / "farend.key"))
        with writing(db):
            places.keep_server_far_end(db, host, port, media, key.decode())
    finally:
        db.close()
    command = [sys.executable, "-m", "tarnfell.cli", "farend", "--bind", host, "--control-port", str(port)]
    parent = os.getpid()
    # However this server ends, its far end ends with it.
    with subprocess.Popen(
        [
            *command,
            "--media-ports",
            options.media_ports,
            "--key-file",
            str(file),
            *(["--browser"] if options.browser else []),
        ],
        preexec_fn=lambda: die_with(parent),
    ) as child:
        try:
            yield
        finally:
            child.terminate()


def user(options: argparse.Namespace) -> int:
    from tarnfell.store import members, people
    from tarnfell.store.db import open_database, writing
    from tarnfell.work.people import reset_path

    if not options.list and not options.email:
        raise ValueError("Give an email address, or --list.")
    if sum((options.list, options.remove, options.new_password, options.reset_link, bool(options.engagement))) > 1:
        raise ValueError("Give one of --list, --remove, --new-password, --reset-link and --engagement.")
    db = open_database(Path(options.data))
    link = ""
    try:
        if options.list:
            print_report(options, {"users": _users(db)}, _user_lines)
            return DONE
        with writing(db):
            if options.remove:
                people.remove_user(db, options.email)
                told = "may not sign in any more."
            elif options.new_password:
                people.set_password(db, options.email, _password())
                told = "has a new password and must sign in again."
            elif options.reset_link:
                _known(db, options.email)
                _, link = reset_path(db, options.email)
                told = f"sets a new password at {link} on this server, within an hour."
            elif options.engagement:
                told = _join(db, options)
            else:
                one = people.add_user(db, options.email, options.name or options.email, _password())
                members.adopt(db, one.id)
                told = "may sign in now." if members.roles_of(db, one.id) else f"may sign in now. {IN_NONE}"
    except sqlite3.IntegrityError:
        raise ValueError(
            f"There is already a user {options.email}. Give --new-password to change the password."
        ) from None
    except KeyError:
        raise ValueError(f"There is no user {options.email}.") from None
    finally:
        db.close()
    report = {"email": options.email} | ({"link": link} if link else {})
    print_report(options, report, lambda r: f"{r['email']} {told}")
    return DONE


IN_NONE = "No engagement is theirs yet: they begin one, a consultant invites them, or --engagement has them belong."


def _join(db: sqlite3.Connection, options: argparse.Namespace) -> str:
    """Have the user belong to the engagement; a user that there is not yet is added."""
    from tarnfell.store import members, people
    from tarnfell.store.engagements import engagement_by_slug

    engagement = engagement_by_slug(db, options.engagement)
    if engagement is None:
        raise ValueError(f"There is no engagement {options.engagement}.")
    one = people.user_by_email(db, options.email)
    if one is None:
        name = options.name or options.email
        one = people.add_user(db, options.email, name, _password(), outside=options.role == "customer")
    try:
        members.join(db, engagement.id, one.id, options.role)
    except members.LastConsultant:
        raise ValueError(f"{options.email} is the last consultant of {engagement.name}.") from None
    return f"belongs to {engagement.name} as {options.role}."


def _users(db: sqlite3.Connection) -> list[dict[str, object]]:
    from tarnfell.store import members, people
    from tarnfell.store.engagements import engagement_by_id

    return [
        {
            "email": one.email,
            "name": one.name,
            "roles": {engagement_by_id(db, number).slug: role for number, role in members.roles_of(db, one.id).items()},
        }
        for one in people.users(db)
    ]


def _user_lines(report: Mapping[str, Any]) -> str:
    return "\n".join(
        f"{u['email']}  {u['name']}" + "".join(f"\n    {role} of {slug}" for slug, role in u["roles"].items())
        for u in report["users"]
    )


def _known(db: sqlite3.Connection, email: str) -> None:
    """Raises KeyError."""
    from tarnfell.store import people

    if people.user_by_email(db, email) is None:
        raise KeyError(email)


def _password() -> str:
    return getpass.getpass("Password: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")


def demo(options: argparse.Namespace) -> int:
    from tarnfell.demo.run import DemoError, run_demo

    try:
        run_demo(options.port, Path(options.data), fresh=options.fresh)
    except DemoError as error:
        raise ValueError(str(error)) from None
    return DONE
