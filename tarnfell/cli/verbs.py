"""Every verb. Exit 0: done; 1: the measured thing failed; 2: wrong use.

Only the chosen verb's options and work are loaded: a far end or a probe needs nothing numeric, and starts at once.
"""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import Any

from tarnfell import __version__
from tarnfell.cli import options
from tarnfell.cli.common import FAILED, WRONG_USE


@dataclass(frozen=True)
class Verb:
    name: str
    module: str
    """Of this package; its function of the verb's name does the work."""
    options: Callable[[argparse.ArgumentParser], None]
    words: str
    example: str = ""


VERBS = (
    Verb(
        "call",
        "calling",
        options.call,
        "Place synthetic calls to a far end and judge them.",
        "Example: tarnfell call farend.example --codec g711u --calls 10 --seconds 30 --video 720p30:2",
    ),
    Verb(
        "check",
        "checking",
        options.check,
        "Ask a site's network every cheap question on the way to a far end, and find the layer that is broken.",
        "A file of services is TOML, [[service]] with name, host, port and protocol (tcp, tls, http, https, stun,\n"
        "dns, sip), or a CSV with these columns; of tls and https also the sha256 of the certificate\n"
        "that is to be there, of http and https the path that is fetched.\n"
        "Example: tarnfell check farend.example --key-file key --name farend.example --outside 192.0.2.53",
    ),
    Verb(
        "path",
        "checking",
        options.path,
        "The path to an address, hop by hop, by packets of one flow.",
        "Example: tarnfell path farend.example --rounds 10",
    ),
    Verb(
        "look",
        "looking",
        options.look,
        "Echoes to a name or an address, small and large: how many come back, how soon, in what order.",
        "Routers may answer echoes slowly, or not at all, while they pass calls on.\n"
        "Example: tarnfell look farend.example --count 100 --interval 0.2",
    ),
    Verb(
        "watch",
        "watched",
        options.watch,
        "Samples of gateway, provider’s edge, outside addresses and far end at the same instants, and what they say.",
        "The samples are CSV (at,target,role,rtt_ms), to be analysed again with: tarnfell analyse F.csv\n"
        "Example: tarnfell watch farend.example --key-file farend.key --outside 192.0.2.53 --seconds 3600 --out w.csv",
    ),
    Verb(
        "load",
        "loading",
        options.load,
        "UDP packets of a size and rate of one's own to and from a far end: what was offered, and what arrived.",
        "Small packets in large numbers are what a slow router fails at long before its line is full.\n"
        "Example: tarnfell load farend.example --key-file farend.key --bytes 40 --rate 1000 --seconds 20",
    ),
    Verb(
        "bloat",
        "filling",
        options.bloat,
        "Fill the line with two calls beside it, and say what a busy line does to them.",
        "TCP streams fill the line up, then down, then both. One of the calls is marked, the other is not.\n"
        "The line is full for as long: people at work there will notice.\n"
        "Example: tarnfell bloat farend.example --key-file farend.key --seconds 10",
    ),
    Verb(
        "analyse",
        "judging",
        options.analyse,
        "Judge samples of a watch, a packet trace, the RTP streams of a capture, or a log of ping.",
        "The file is a packet trace (CSV: seq,sent_us,recv_us, blank recv_us for a lost packet), a capture (pcap or\n"
        "pcapng), samples of a watch (CSV: at,target,role,rtt_ms; at in RFC 3339, role gateway, edge, outside or\n"
        "far-end, blank rtt_ms for one that was not answered), or what ping printed on Linux, BSD, macOS or Windows.\n"
        "Logs of ping to several places along the path, taken at the same time, become one picture:\n"
        "--ping gateway=a.txt --ping edge=b.txt\n"
        "Example: tarnfell analyse call1-up.csv --codec g711u --buffer 40",
    ),
    Verb(
        "quality",
        "judging",
        options.quality,
        "R and MOS of a delay and a loss, by the E-model (ITU-T G.107).",
        "Example: tarnfell quality --one-way-ms 150 --loss-pct 1 --codec g711u",
    ),
    Verb(
        "plan",
        "judging",
        options.plan,
        "What a run costs on the line, how long it takes and what it yields.",
    ),
    Verb(
        "farend",
        "running",
        options.farend,
        "Answer calls: run this where calls would really be answered.",
    ),
    Verb(
        "serve",
        "running",
        options.serve,
        "Run the server.",
        "Example: tarnfell serve --data /var/lib/tarnfell --bind [::1]:8080",
    ),
    Verb(
        "clerk",
        "running",
        options.clerk,
        "Judge what probes deliver and carry plans out; the server runs one by itself.",
        "Example: tarnfell clerk --data /var/lib/tarnfell",
    ),
    Verb(
        "websocket",
        "running",
        options.websocket,
        "Answer tests from browsers over WebSocket; the server runs this by itself where it was asked to.",
        "Example: tarnfell websocket --data /var/lib/tarnfell --bind 127.0.0.1:8081",
    ),
    Verb(
        "user",
        "running",
        options.user,
        "Add a user of a server, list users, or remove one.",
        "The password is asked for, or read from standard input. A new password ends all sessions of that user.\n"
        "Example: tarnfell user ines@merrow.example --name 'Ines Harrow' --data /var/lib/tarnfell",
    ),
    Verb(
        "backup",
        "copying",
        options.backup,
        "Take a data folder away whole, as one archive; the server may be at work.",
        "It holds everything there is, keys and hashes of passwords as well.\n"
        "Example: tarnfell backup --data /var/lib/tarnfell --out tarnfell.tar",
    ),
    Verb(
        "restore",
        "copying",
        options.restore,
        "Put a data folder back from such an archive, all of it or nothing.",
        "Example: tarnfell restore tarnfell.tar --data /var/lib/tarnfell-again",
    ),
    Verb(
        "demo",
        "running",
        options.demo,
        "Run everything on this machine with made-up data.",
    ),
)
PROBE_VERBS = (
    Verb("enrol", "running", options.enrol, "Make this machine known to a server."),
    Verb("run", "running", options.probe, "Take jobs from the server until stopped."),
    Verb("status", "running", options.probe, "Show who this probe is and what it still has to deliver."),
)
REPORT_VERBS = (
    Verb("make", "reporting", options.report_make, "Draw a site's report as it is now: a draft."),
    Verb("issue", "reporting", options.report_issue, "Issue a site's report: numbered, and never changed again."),
    Verb("show", "reporting", options.report_show, "Show what became of an issued report."),
    Verb("schema", "reporting", options.report_schema, "Print what a report's figures hold, as JSON Schema."),
    Verb("verify", "reporting", options.report_verify, "Find the issued report that a file is of, unchanged."),
)
ENGAGEMENT_VERBS = (
    Verb(
        "export",
        "copying",
        options.engagement_export,
        "Write one engagement as an open archive; the server may be at work.",
        "It holds the evidence, the briefs and what was issued, and nothing that lets anybody in: no passwords, links "
        "or keys.\n"
        "Example: tarnfell engagement export merrow-sound-ferries --out ferries.tar --data /var/lib/tarnfell",
    ),
    Verb(
        "import",
        "copying",
        options.engagement_import,
        "Put such an archive's engagement among those of another server.",
        "Its probes are enrolled anew, and plans, watches and rules for alerts begin when you switch them on.\n"
        "Example: tarnfell engagement import ferries.tar --for ines@merrow.example --data /var/lib/tarnfell",
    ),
)
GROUPS = (
    ("engagement", "One engagement, from a server to another.", ENGAGEMENT_VERBS),
    ("probe", "Work for a server from inside a site.", PROBE_VERBS),
    ("report", "A site's readiness report, from a server's data folder.", REPORT_VERBS),
)


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    given = sys.argv[1:] if arguments is None else arguments
    chosen = _parser(given).parse_args(given)
    try:
        work = getattr(import_module(f"tarnfell.cli.{chosen.verb.module}"), chosen.function)
        return int(work(chosen))
    except KeyboardInterrupt:
        print("tarnfell: stopped.", file=sys.stderr)
        return 130
    except Exception as error:
        status = _status_of(error)
        if status is None:
            raise
        print(f"tarnfell: {_sentence(error)}", file=sys.stderr)
        return status


def _status_of(error: Exception) -> int | None:
    """None for what nobody has foreseen."""
    from sqlite3 import OperationalError

    from tarnfell.farend.daemon import FarEndError
    from tarnfell.probe.connect import CallError
    from tarnfell.probe.state import AgentError
    from tarnfell.wire import WireError

    if isinstance(error, (CallError, AgentError, WireError, OperationalError)):
        return FAILED
    return WRONG_USE if isinstance(error, (FarEndError, ValueError, OSError)) else None


def _sentence(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return f"{error.filename or 'The system'}: {error.strerror}."
    if type(error).__module__ == "sqlite3":
        return f"The database cannot be read or written: {error}."
    return str(error)


def _parser(given: Sequence[str]) -> argparse.ArgumentParser:
    """With the options of the verb that is asked for; of the others it only lists what they do."""
    parser = argparse.ArgumentParser(
        prog="tarnfell",
        description="Finds out whether a site can carry voice and video calls.",
        epilog="Exit status: 0 done, 1 what was measured failed, 2 wrong use. Every verb takes --json.",
    )
    parser.add_argument("--version", action="version", version=f"tarnfell {__version__}")
    verbs = parser.add_subparsers(required=True, metavar="VERB")
    for verb in VERBS:
        _add(verbs, verb, verb.name, verb.name in given)
    for name, words, group in GROUPS:
        inner = verbs.add_parser(name, help=words).add_subparsers(
            required=True, metavar="|".join(verb.name for verb in group)
        )
        for verb in group:
            _add(inner, verb, f"{name}_{verb.name}", name in given)
    return parser


def _add(verbs: Any, verb: Verb, function: str, with_options: bool) -> None:
    one = verbs.add_parser(
        verb.name,
        help=verb.words,
        description=verb.words,
        epilog=verb.example,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    one.set_defaults(verb=verb, function=function)
    if with_options:
        one.add_argument("--json", action="store_true", help="print JSON")
        verb.options(one)
