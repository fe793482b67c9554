"""The options of each verb. What lists codecs or profiles loads them only for the verb that is asked for."""

from __future__ import annotations

import argparse
from pathlib import Path

from tarnfell.wire.control import DEFAULT_MEDIA_PORTS, DEFAULT_PORT
from tarnfell.wire.kinds.signalling import SIP_TRANSPORTS


def call(parser: argparse.ArgumentParser) -> None:
    from tarnfell.core.playout import DEFAULT_BUFFER_MS
    from tarnfell.core.video import DEFAULT_DSCP, video_profiles

    names = ", ".join(video_profiles())
    parser.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    parser.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {codec_names()}")
    parser.add_argument("--ptime", type=int, default=20, metavar="MS", help="packet interval, whole codec frames")
    parser.add_argument("--calls", type=int, default=1, metavar="N", help="concurrent calls, 1 to 100")
    parser.add_argument("--seconds", type=float, default=10, metavar="S", help="length of each call")
    parser.add_argument("--dscp", type=int, default=46, metavar="N", help="marking, 0 to 63; 46 is EF")
    parser.add_argument("--direction", choices=("both", "up", "down"), default="both", help="which ways media flows")
    parser.add_argument("--video", action="append", metavar="PROFILE[:N]", help=f"beside the calls; one of {names}")
    parser.add_argument("--video-dscp", type=int, default=DEFAULT_DSCP, metavar="N", help="of video; 34 is AF41")
    parser.add_argument("--buffer", type=float, default=DEFAULT_BUFFER_MS, metavar="MS", help="playout buffer")
    parser.add_argument("--key-file", metavar="F", help="the far end's key")
    parser.add_argument("--trace-dir", metavar="DIR", help="write callN-up.csv, callN-down.csv and videoN-….csv there")


def check(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    parser.add_argument("--key-file", metavar="F", help="the far end's key; without it no call is placed")
    parser.add_argument("--services", metavar="FILE", help="services to ask, as TOML or CSV")
    parser.add_argument("--name", action="append", metavar="N", help="a name to look up; may be given again")
    parser.add_argument("--resolver", action="append", metavar="A", help="a name server; else those of the system")
    parser.add_argument("--outside", action="append", metavar="A", help="an address outside; may be given again")
    parser.add_argument("--gateway", metavar="A", help="else the system's default route")
    parser.add_argument("--edge", metavar="A", help="the provider's edge; else the first hop beyond the gateway")
    parser.add_argument("--media-port", type=int, default=DEFAULT_MEDIA_PORTS[0], metavar="N", help="of the far end")
    parser.add_argument(
        "--registrar", metavar="HOST[:PORT]", help="the customer’s own: register there, and call oneself through it"
    )
    parser.add_argument("--sip-user", metavar="U", help="who registers there")
    parser.add_argument("--sip-password-file", metavar="F", help="one line")
    parser.add_argument("--sip-transport", choices=tuple(SIP_TRANSPORTS), default="udp", help="udp unless given")
    parser.add_argument("--sip-domain", metavar="D", help="of the address of record; else the registrar’s host")


def path(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST")
    parser.add_argument(
        "--port", type=int, default=DEFAULT_MEDIA_PORTS[0], metavar="N", help="of UDP or TCP, that is sent to"
    )
    parser.add_argument(
        "--method", choices=("udp", "icmp", "tcp"), help="udp unless given; icmp where the system shows no other"
    )
    parser.add_argument("--rounds", type=int, default=5, metavar="N", help="packets to each hop")
    parser.add_argument("--dscp", type=int, default=46, metavar="N", help="marking, 0 to 63; 46 is EF")


def look(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST")
    parser.add_argument("--count", type=int, default=20, metavar="N", help="rounds; 0: until stopped")
    parser.add_argument("--interval", type=float, default=0.5, metavar="S", help="from one round to the next")
    parser.add_argument("--small", type=int, default=64, metavar="BYTES", help="on the line, IP's header in it")
    parser.add_argument("--large", type=int, default=1400, metavar="BYTES", help="0: only small ones")


def watch(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST[:PORT]", help="the far end; with its key sampled by time stamps")
    parser.add_argument("--key-file", metavar="F", help="the far end's key; without it the host is sampled by echoes")
    parser.add_argument("--seconds", type=float, default=60, metavar="S", help="0: until stopped")
    parser.add_argument("--out", metavar="F.csv", help="where the samples are written")
    parser.add_argument("--interval", type=float, default=1.0, metavar="S", help="from one round to the next")
    parser.add_argument("--outside", action="append", metavar="A", help="an address outside; may be given again")
    parser.add_argument("--gateway", metavar="A", help="else the system's default route")
    parser.add_argument("--edge", metavar="A", help="the provider's edge; else the first hop beyond the gateway")
    parser.add_argument("--dscp", type=int, default=46, metavar="N", help="marking of the time stamps, 0 to 63")
    _analysis_options(parser)


def load(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST[:PORT]", help=f"the far end; port {DEFAULT_PORT} unless given")
    parser.add_argument("--key-file", metavar="F", help="the far end's key")
    parser.add_argument("--bytes", type=int, default=60, metavar="N", help="UDP payload, RTP's header in it")
    parser.add_argument("--rate", type=float, default=200, metavar="N", help="packets a second, each way")
    parser.add_argument("--seconds", type=float, default=10, metavar="S")
    parser.add_argument("--dscp", type=int, default=0, metavar="N", help="marking, 0 to 63")
    parser.add_argument("--direction", choices=("both", "up", "down"), default="both", help="which ways it flows")


def bloat(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("host", metavar="HOST[:PORT]")
    parser.add_argument("--key-file", required=True, metavar="F", help="the far end's key")
    parser.add_argument("--seconds", type=float, default=10.0, metavar="S", help="each way; 2 to 60")
    parser.add_argument("--streams", type=int, default=4, metavar="N", help="TCP streams in each direction")
    parser.add_argument("--ways", default="up,down,both", metavar="LIST", help="of up, down, both")
    parser.add_argument("--dscp", type=int, default=46, metavar="N", help="of the marked call; 46 is EF")
    parser.add_argument("--codec", default="g711a", metavar="NAME", help=f"one of {codec_names()}")
    parser.add_argument("--ptime", type=int, default=20, metavar="MS")
    parser.add_argument("--calls", type=int, default=2, metavar="N", help="concurrent calls the line must carry")
    parser.add_argument("--ceiling", type=int, default=0, metavar="KBPS", help="keep the streams below this rate")
    parser.add_argument("--line", metavar="UP,DOWN", help="the line's rates as sold, kbit/s")
    parser.add_argument("--target", type=float, default=4.0, metavar="MOS", help="what an acceptable call has")
    parser.add_argument("--gateway", metavar="ADDR", help="instead of the system's own way out")
    parser.add_argument("--edge", metavar="ADDR", help="instead of the first hop beyond the gateway")


def analyse(parser: argparse.ArgumentParser) -> None:
    from tarnfell.core.playout import DEFAULT_BUFFER_MS

    parser.add_argument("file", metavar="FILE", nargs="?")
    parser.add_argument(
        "--ping",
        action="append",
        metavar="PLACE=FILE",
        help="a log of ping to the gateway, edge, outside or far-end; several make one picture of the path",
    )
    _criterion_options(parser)
    parser.add_argument("--buffer", type=float, default=DEFAULT_BUFFER_MS, metavar="MS")
    parser.add_argument("--adaptive", action="store_true", help="let the buffer follow the delay, up to --buffer")
    parser.add_argument("--ptime", type=int, metavar="MS", help="packet interval the stream was sent at")
    _days_options(parser)


def quality(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--one-way-ms", type=float, required=True, metavar="X", help="mouth to ear")
    parser.add_argument("--loss-pct", type=float, required=True, metavar="P")
    parser.add_argument("--burst-ratio", type=float, default=1, metavar="B", help="1 is random loss")
    _criterion_options(parser)


def plan(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--codec", default="g711u", metavar="NAME", help=f"one of {codec_names()}")
    parser.add_argument("--ptime", type=int, default=20, metavar="MS")
    parser.add_argument("--calls", type=int, default=1, metavar="N")
    parser.add_argument("--seconds", type=float, default=60, metavar="S")
    parser.add_argument("--rounds", type=int, default=1, metavar="N")
    parser.add_argument(
        "--ramp-from", "--rise-from", type=int, metavar="N", help="ramp up step by step from N calls to --calls"
    )
    parser.add_argument("--ramp-by", "--rise-by", type=int, default=1, metavar="N", help="calls more at each step")


def farend(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--bind", required=True, metavar="ADDR", help="address to answer at")
    parser.add_argument("--control-port", type=int, default=DEFAULT_PORT, metavar="N")
    parser.add_argument("--media-ports", default="-".join(map(str, DEFAULT_MEDIA_PORTS)), metavar="A-B")
    parser.add_argument("--key-file", metavar="F", help="made there if it does not exist")
    parser.add_argument(
        "--certificate", metavar="F", help="with its key (PEM), for SIP over TLS; else one is made beside the key"
    )
    _browser(parser)


def serve(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", required=True, metavar="DIR")
    parser.add_argument("--bind", default="127.0.0.1:8080", metavar="ADDR:PORT")
    parser.add_argument("--answer", metavar="ADDR[:PORT]", help="run a far end beside the server, at this address")
    parser.add_argument("--media-ports", default="-".join(map(str, DEFAULT_MEDIA_PORTS)), metavar="A-B")
    _browser(parser)
    parser.add_argument(
        "--websocket", metavar="ADDR:PORT", help="tests from browsers that no UDP passes may come here over WebSocket"
    )
    _clerks(parser)
    _log_level(parser)


def websocket(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", required=True, metavar="DIR")
    parser.add_argument("--bind", required=True, metavar="ADDR:PORT")
    _log_level(parser)


def _browser(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--browser", action="store_true", help="the far end takes calls from browsers too")


def clerk(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", required=True, metavar="DIR")
    _clerks(parser)
    _log_level(parser)


def _clerks(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--public-address", metavar="URL", help="how sites reach it, such as https://tarnfell.example")
    parser.add_argument(
        "--allow-private-webhooks", action="store_true", help="send alerts to addresses inside a network as well"
    )
    parser.add_argument(
        "--keep-samples",
        type=_days_kept,
        metavar="DAYS",
        help="let go of a watch's samples after so many days, 15 at least; its minutes and all figures stay",
    )


def _days_kept(text: str) -> int:
    from tarnfell.work.watch.retention import FEWEST_DAYS

    if not text.isdigit() or int(text) < FEWEST_DAYS:
        raise argparse.ArgumentTypeError(f"{text}: whole days, {FEWEST_DAYS} at least")
    return int(text)


def backup(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--data", required=True, metavar="DIR")
    parser.add_argument("--out", required=True, metavar="F.tar", help="- for standard output")


def restore(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="F.tar")
    parser.add_argument("--data", required=True, metavar="DIR", help="where nothing is yet")


def engagement_export(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("slug", metavar="SLUG", help="as in its address")
    backup(parser)


def engagement_import(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="F.tar")
    parser.add_argument("--for", dest="email", required=True, metavar="EMAIL", help="who is its consultant here")
    parser.add_argument("--slug", metavar="SLUG", help="another address, where its own is taken")
    parser.add_argument("--data", required=True, metavar="DIR")


def user(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("email", metavar="EMAIL", nargs="?")
    parser.add_argument("--list", action="store_true", help="list users")
    parser.add_argument("--new-password", action="store_true", help="set a new password")
    parser.add_argument("--remove", action="store_true", help="remove a user; what they did stays on record")
    parser.add_argument(
        "--reset-link", action="store_true", help="print the address of a page where the user sets a new password"
    )
    parser.add_argument("--engagement", metavar="SLUG", help="have the user, new or not, belong to this engagement")
    parser.add_argument("--role", choices=("consultant", "colleague", "customer"), default="consultant")
    parser.add_argument("--name", metavar="NAME")
    parser.add_argument("--data", required=True, metavar="DIR")


def demo(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--port", type=int, default=8080, metavar="N")
    parser.add_argument("--data", default="demo-data", metavar="DIR")
    parser.add_argument("--fresh", action="store_true", help="make the demo data anew")


def probe(parser: argparse.ArgumentParser) -> None:
    state = Path.home() / ".local" / "share" / "tarnfell" / "probe"
    parser.add_argument("--state", default=str(state), metavar="DIR", help="the probe's data folder")


def report_make(parser: argparse.ArgumentParser) -> None:
    report_issue(parser)
    parser.add_argument("--format", choices=("html", "pdf", "json", "csv"), default="html")
    parser.add_argument("--out", metavar="FILE", default="-", help="else standard output")


def report_issue(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE", help="the name in the site's address")
    parser.add_argument("--data", required=True, metavar="DIR")


def report_show(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("number", metavar="NUMBER")
    parser.add_argument("--data", required=True, metavar="DIR")


def report_verify(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="page, figures or PDF")
    parser.add_argument("--data", required=True, metavar="DIR")


def report_schema(parser: argparse.ArgumentParser) -> None:
    """It takes nothing."""


def enrol(parser: argparse.ArgumentParser) -> None:
    probe(parser)
    parser.add_argument("--server", required=True, metavar="URL")
    parser.add_argument("--token", required=True, metavar="T", help="from the site's page")


def _log_level(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--log-level", choices=("debug", "info", "warning"), default="info", help="what is told on standard error"
    )


def _analysis_options(parser: argparse.ArgumentParser) -> None:
    from tarnfell.core.playout import DEFAULT_BUFFER_MS

    parser.add_argument("--codec", metavar="NAME", help=f"of the calls that are to be carried; one of {codec_names()}")
    parser.add_argument("--buffer", type=float, default=DEFAULT_BUFFER_MS, metavar="MS")
    parser.add_argument("--ptime", type=int, metavar="MS")
    _days_options(parser)


def _days_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--time-zone", default="UTC", metavar="Z", help="of the site, for samples of a watch")
    parser.add_argument("--target", type=float, default=4.0, metavar="MOS", help="what an acceptable call has")
    parser.add_argument(
        "--medium", choices=("wired", "wireless"), help="between test point and gateway; else read off its answers"
    )


def _criterion_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--codec", metavar="NAME", help=f"one of {codec_names()}")
    parser.add_argument("--ie", type=float, metavar="X", help="equipment impairment, instead of a codec")
    parser.add_argument("--bpl", type=float, metavar="Y", help="packet-loss robustness, instead of a codec")


def codec_names() -> str:
    from tarnfell.core.codecs import codec_table

    return ", ".join(codec_table())
