"""Every verb with its options. Exit 0: done; 1: the measured thing failed; 2: wrong use."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import Any

from tarnfell import __version__
from tarnfell.cli.common import FAILED, WRONG_USE
from tarnfell.core import playout
from tarnfell.core.codecs import codec_table
from tarnfell.core.video import DEFAULT_DSCP, video_profiles
from tarnfell.farend.daemon import DEFAULT_MEDIA_PORTS, FarEndError
from tarnfell.probe.connect import CallError
from tarnfell.probe.state import AgentError
from tarnfell.wire import WireError
from tarnfell.wire.control import DEFAULT_PORT

_WRONG_USE = (FarEndError, ValueError, OSError)
_FAILED = (CallError, AgentError, WireError)


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    options = _parser().parse_args(arguments)
    try:
        return int(options.verb_function(options))
    except _FAILED as error:
        print(f"tarnfell: {error}", file=sys.stderr)
        return FAILED
    except _WRONG_USE as error:
        print(f"tarnfell: {_sentence(error)}", file=sys.stderr)
        return WRONG_USE
    except KeyboardInterrupt:
        print("tarnfell: stopped.", file=sys.stderr)
        return 130


def _sentence(error: Exception) -> str:
    if isinstance(error, OSError) and error.strerror:
        return f"{error.filename or 'The system'}: {error.strerror}."
    return str(error)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="tarnfell",
        description="Finds out whether a site can carry voice and video calls.",
        epilog="Exit status: 0 done, 1 what was measured failed, 2 wrong use. Every verb takes --json.",
    )
    parser.add_argument("--version", action="version", version=f"tarnfell {__version__}")
    verbs = parser.add_subparsers(required=True, metavar="VERB")

    def verb(name: str, function: Callable[[argparse.Namespace], int], words: str, example: str = "") -> Any:
        one = verbs.add_parser(
            name,
            help=words,
            description=words,
            epilog=example,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        one.set_defaults(verb_function=function)
        one.add_argument("--json", action="store_true", help="print JSON")
        return one

    names = ", ".join(codec_table())
    call = verb(
        "call",
        _do("calling", "call"),
        "Place synthetic calls to a far end and judge them.",
        "Example: tarnfell call farend.example --codec g711u --calls 10 --seconds 30 --video 720p30:2",
    )
    call.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    call.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {names}")
    call.add_argument("--ptime", type=int, default=20, metavar="MS", help="packet interval, whole codec frames")
    call.add_argument("--calls", type=int, default=1, metavar="N", help="concurrent calls, 1 to 100")
    call.add_argument("--seconds", type=float, default=10, metavar="S", help="length of each call")
    call.add_argument("--dscp", type=int, default=46, metavar="N", help="marking, 0 to 63; 46 is EF")
    call.add_argument("--direction", choices=("both", "up", "down"), default="both", help="which ways media flows")
    profiles = ", ".join(video_profiles())
    call.add_argument("--video", action="append", metavar="PROFILE[:N]", help=f"beside the calls; one of {profiles}")
    call.add_argument("--video-dscp", type=int, default=DEFAULT_DSCP, metavar="N", help="marking of video; 34 is AF41")
    call.add_argument("--buffer", type=float, default=playout.DEFAULT_BUFFER_MS, metavar="MS", help="playout buffer")
    call.add_argument("--key-file", metavar="F", help="the far end's key")
    call.add_argument("--trace-dir", metavar="DIR", help="write callN-up.csv, callN-down.csv and videoN-….csv there")

    check = verb(
        "check",
        _do("checking", "check"),
        "Ask a site's network every cheap question on the way to a far end, and find the layer that is broken.",
        "A file of services is TOML: [[service]] with name, host, port, protocol (tcp, tls, stun, dns, sip) and, of\n"
        "tls, the sha256 of the certificate that is to be there.\n"
        "Example: tarnfell check farend.example --key-file key --name farend.example --outside 192.0.2.53",
    )
    check.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    check.add_argument("--key-file", metavar="F", help="the far end's key; without it no call is placed")
    check.add_argument("--services", metavar="FILE", help="services to ask, as TOML")
    check.add_argument("--name", action="append", metavar="N", help="a name to look up; may be given again")
    check.add_argument("--resolver", action="append", metavar="A", help="a name server; else those of the system")
    check.add_argument("--outside", action="append", metavar="A", help="an address outside; may be given again")
    check.add_argument("--gateway", metavar="A", help="else the system's default route")
    check.add_argument("--edge", metavar="A", help="the provider's edge; else the first hop beyond the gateway")
    check.add_argument("--media-port", type=int, default=DEFAULT_MEDIA_PORTS[0], metavar="N", help="of the far end")

    path = verb(
        "path",
        _do("checking", "path"),
        "The way to an address, hop by hop, by one flow of UDP packets.",
        "Example: tarnfell path farend.example --rounds 10",
    )
    path.add_argument("host", metavar="HOST")
    path.add_argument("--port", type=int, default=DEFAULT_MEDIA_PORTS[0], metavar="N", help="UDP port that is sent to")
    path.add_argument("--rounds", type=int, default=5, metavar="N", help="packets to each hop")
    path.add_argument("--dscp", type=int, default=46, metavar="N", help="marking, 0 to 63; 46 is EF")

    bloat = verb(
        "bloat",
        _do("filling", "bloat"),
        "Fill the line with two calls beside it, and say what a busy line does to them.",
        "TCP streams fill the line up, then down, then both. One of the calls is marked, the other is not.\n"
        "The line is full for as long: people at work there will notice.\n"
        "Example: tarnfell bloat farend.example --key-file farend.key --seconds 10",
    )
    bloat.add_argument("host", metavar="HOST[:PORT]")
    bloat.add_argument("--key-file", required=True, metavar="F", help="the far end's key")
    bloat.add_argument("--seconds", type=float, default=10.0, metavar="S", help="each way; 2 to 60")
    bloat.add_argument("--streams", type=int, default=4, metavar="N", help="TCP streams in each direction")
    bloat.add_argument("--ways", default="up,down,both", metavar="LIST", help="of up, down, both")
    bloat.add_argument("--dscp", type=int, default=46, metavar="N", help="of the marked call; 46 is EF")
    bloat.add_argument("--codec", default="g711a", metavar="NAME", help=f"one of {names}")
    bloat.add_argument("--ptime", type=int, default=20, metavar="MS")
    bloat.add_argument("--calls", type=int, default=2, metavar="N", help="concurrent calls the line must carry")
    bloat.add_argument("--ceiling", type=int, default=0, metavar="KBPS", help="keep the streams below this rate")
    bloat.add_argument("--line", metavar="UP,DOWN", help="the line's rates as sold, kbit/s")
    bloat.add_argument("--target", type=float, default=4.0, metavar="MOS", help="what an acceptable call has")
    bloat.add_argument("--gateway", metavar="ADDR", help="instead of the system's own way out")
    bloat.add_argument("--edge", metavar="ADDR", help="instead of the first hop beyond the gateway")

    analyse = verb(
        "analyse",
        _do("judging", "analyse"),
        "Judge a packet trace, the RTP streams of a capture, or a log of ping.",
        "The file is a packet trace (CSV: seq,sent_us,recv_us, blank recv_us for a lost packet), a capture (pcap or\n"
        "pcapng), or what ping printed on Linux, BSD, macOS or Windows. Logs of ping to several places along the\n"
        "path, taken at the same time, become one picture: --ping gateway=a.txt --ping edge=b.txt\n"
        "Example: tarnfell analyse call1-up.csv --codec g711u --buffer 40",
    )
    analyse.add_argument("file", metavar="FILE", nargs="?")
    analyse.add_argument(
        "--ping",
        action="append",
        metavar="PLACE=FILE",
        help="a log of ping to the gateway, edge, outside or far-end; several make one picture of the path",
    )
    _criterion_options(analyse, names)
    analyse.add_argument("--buffer", type=float, default=playout.DEFAULT_BUFFER_MS, metavar="MS")
    analyse.add_argument("--adaptive", action="store_true", help="let the buffer follow the delay, up to --buffer")
    analyse.add_argument("--ptime", type=int, metavar="MS", help="packet interval the stream was sent at")

    quality = verb(
        "quality",
        _do("judging", "quality"),
        "R and MOS of a delay and a loss, by the E-model (ITU-T G.107).",
        "Example: tarnfell quality --one-way-ms 150 --loss-pct 1 --codec g711u",
    )
    quality.add_argument("--one-way-ms", type=float, required=True, metavar="X", help="mouth to ear")
    quality.add_argument("--loss-pct", type=float, required=True, metavar="P")
    quality.add_argument("--burst-ratio", type=float, default=1, metavar="B", help="1 is random loss")
    _criterion_options(quality, names)

    plan = verb("plan", _do("judging", "plan"), "What a run costs on the line, how long it takes and what it yields.")
    plan.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {names}")
    plan.add_argument("--ptime", type=int, default=20, metavar="MS")
    plan.add_argument("--calls", type=int, default=1, metavar="N")
    plan.add_argument("--seconds", type=float, default=60, metavar="S")
    plan.add_argument("--rounds", type=int, default=1, metavar="N")
    plan.add_argument(
        "--ramp-from", "--rise-from", type=int, metavar="N", help="ramp up step by step from N calls to --calls"
    )
    plan.add_argument("--ramp-by", "--rise-by", type=int, default=1, metavar="N", help="calls more at each step")

    farend = verb("farend", _do("running", "farend"), "Answer calls: run this where calls would really be answered.")
    farend.add_argument("--bind", required=True, metavar="ADDR", help="address to answer at")
    farend.add_argument("--control-port", type=int, default=DEFAULT_PORT, metavar="N")
    farend.add_argument("--media-ports", default="-".join(map(str, DEFAULT_MEDIA_PORTS)), metavar="A-B")
    farend.add_argument("--key-file", metavar="F", help="made there if it does not exist")

    probe = verbs.add_parser("probe", help="Work for a server from inside a site.")
    inner = probe.add_subparsers(required=True, metavar="enrol|run|status")
    state = Path.home() / ".local" / "share" / "tarnfell" / "probe"
    for name, function, words in (
        ("enrol", _do("running", "probe_enrol"), "Make this machine known to a server."),
        ("run", _do("running", "probe_run"), "Take jobs from the server until stopped."),
        ("status", _do("running", "probe_status"), "Show who this probe is and what it still has to deliver."),
    ):
        one = inner.add_parser(name, help=words, description=words)
        one.set_defaults(verb_function=function)
        one.add_argument("--json", action="store_true", help="print JSON")
        one.add_argument("--state", default=str(state), metavar="DIR", help="the probe's data folder")
        if name == "enrol":
            one.add_argument("--server", required=True, metavar="URL")
            one.add_argument("--token", required=True, metavar="T", help="from the site's page")

    serve = verb(
        "serve",
        _do("running", "serve"),
        "Run the server.",
        "Example: tarnfell serve --data /var/lib/tarnfell --bind [::1]:8080",
    )
    serve.add_argument("--data", required=True, metavar="DIR")
    serve.add_argument("--bind", default="127.0.0.1:8080", metavar="ADDR:PORT")
    serve.add_argument("--answer", metavar="ADDR[:PORT]", help="run a far end beside the server, at this address")
    serve.add_argument("--media-ports", default="-".join(map(str, DEFAULT_MEDIA_PORTS)), metavar="A-B")
    serve.add_argument("--public-address", metavar="URL", help="how sites reach it, such as https://tarnfell.example")

    clerk = verb(
        "clerk",
        _do("running", "clerk"),
        "Judge what probes deliver and carry plans out; the server runs one by itself.",
        "Example: tarnfell clerk --data /var/lib/tarnfell",
    )
    clerk.add_argument("--data", required=True, metavar="DIR")
    for one in (serve, clerk):
        one.add_argument(
            "--log-level",
            choices=("debug", "info", "warning"),
            default="info",
            help="what is told on standard error",
        )

    user = verb(
        "user",
        _do("running", "user"),
        "Add a user of a server, list users, or remove one.",
        "The password is asked for, or read from standard input. A new password ends all sessions of that user.\n"
        "Example: tarnfell user ines@merrow.example --name 'Ines Harrow' --data /var/lib/tarnfell",
    )
    user.add_argument("email", metavar="EMAIL", nargs="?")
    user.add_argument("--list", action="store_true", help="list users")
    user.add_argument("--new-password", action="store_true", help="set a new password")
    user.add_argument("--remove", action="store_true", help="remove a user; what they did stays on record")
    user.add_argument("--name", metavar="NAME")
    user.add_argument("--data", required=True, metavar="DIR")

    demo = verb("demo", _do("running", "demo"), "Run everything on this machine with made-up data.")
    demo.add_argument("--port", type=int, default=8080, metavar="N")
    demo.add_argument("--data", default="demo-data", metavar="DIR")
    demo.add_argument("--fresh", action="store_true", help="make the demo data anew")
    return parser


def _do(module: str, function: str) -> Callable[[argparse.Namespace], int]:
    """The verb's work, loaded when it is done: a far end or a probe needs nothing numeric, and starts at once."""

    def work(options: argparse.Namespace) -> int:
        return int(getattr(import_module(f"tarnfell.cli.{module}"), function)(options))

    return work


def _criterion_options(parser: argparse.ArgumentParser, names: str) -> None:
    parser.add_argument("--codec", metavar="NAME", help=f"one of {names}")
    parser.add_argument("--ie", type=float, metavar="X", help="equipment impairment, instead of a codec")
    parser.add_argument("--bpl", type=float, metavar="Y", help="packet-loss robustness, instead of a codec")
