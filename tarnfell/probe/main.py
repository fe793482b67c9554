"""The one-file probe as people at a site start it: it enrols itself, says what it does, and works until told to end."""

from __future__ import annotations

import argparse
import os
import signal
import sys
import threading
import time
from pathlib import Path

from tarnfell.farend.certificate import read_or_make
from tarnfell.farend.daemon import FarEndConfig, FarEndError, listen, run
from tarnfell.media import host
from tarnfell.media.host import die_with
from tarnfell.probe import child
from tarnfell.probe.agent import agent_status, enrol
from tarnfell.probe.http import Unreachable
from tarnfell.probe.program import carried_enrolment
from tarnfell.probe.state import AgentError, State
from tarnfell.probe.supervisor import run_agent

_ENROL_PAUSE_S = 5.0
DONE, FAILED, WRONG_USE = 0, 1, 2


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(description="Measures this network for calls, on behalf of one server.")
    parser.add_argument("--state", metavar="DIR", help="the probe's data folder")
    verbs = parser.add_subparsers(dest="verb", metavar="status")
    verbs.add_parser("status", help="show who this probe is and what it still has to deliver")
    verbs.add_parser("work")
    verbs.add_parser("watch")
    answer = verbs.add_parser("answer")
    for name in ("port", "media_low", "media_high"):
        answer.add_argument(name, type=int)
    options = parser.parse_args(arguments)
    try:
        if options.verb == "answer":
            keep = Path(options.state) / "halves" if options.state else None
            return _answer(options.port, options.media_low, options.media_high, keep)
        state = State(Path(options.state) if options.state else _own_folder())
        if options.verb in ("work", "watch"):
            child_of = {"work": child.main, "watch": child.watch}[options.verb]
            return child_of(state, sys.stdin.buffer, sys.stdout)
        if options.verb == "status":
            print("\n".join(f"{name:<18} {value}" for name, value in agent_status(state).items()))
            return DONE
        return _work(state)
    except (AgentError, FarEndError) as error:
        print(error, file=sys.stderr)
        return FAILED
    except KeyboardInterrupt:
        print("\nStopped. Start it again the same way to go on.")
        return DONE


def _own_folder() -> Path:
    """Named for the probe, so that two probes on one machine do not meet."""
    carries = carried_enrolment()
    name = carries.folder if carries else "probe"
    base = os.environ.get("LOCALAPPDATA") if host.HERE.windows else os.environ.get("XDG_DATA_HOME")
    return Path(base or Path.home() / ".local" / "share") / "tarnfell" / name


def _work(state: State) -> int:
    if not state.enrolled:
        _enrol_patiently(state)
    enrolment = state.enrolment()
    print(f"This machine is the probe “{enrolment.name}” at {enrolment.site}.")
    print(f"It works for {enrolment.server}. Leave this window open; Ctrl-C stops it.", flush=True)
    stop = threading.Event()
    signal.signal(signal.SIGTERM, lambda *_: stop.set())
    run_agent(state, stop)
    if not state.enrolled:
        print("The work here is finished and nothing is left on this machine but this file. You can delete it.")
    return DONE


def _enrol_patiently(state: State) -> None:
    """A server that is away now may be back in a minute; whoever started this need not sit and wait. AgentError."""
    carries = carried_enrolment()
    if carries is None:
        raise AgentError("This file carries no enrolment. Get it from the link you were sent.")
    told = False
    while True:
        try:
            enrol(carries.server, carries.code, state)
            return
        except Unreachable as error:
            if not told:
                print(f"{carries.server} cannot be reached ({error}). It is tried again every few seconds.")
                print("If this goes on: is this machine on the network, and may it open web pages?", flush=True)
            told = True
            time.sleep(_ENROL_PAUSE_S)


def _answer(port: int, media_low: int, media_high: int, keep: Path | None) -> int:
    """Be a far end until the probe that started this ends. The key comes on standard input."""
    die_with(os.getppid())
    key = sys.stdin.readline().strip().encode()
    certificate = read_or_make(keep.parent) if keep else None
    config = FarEndConfig("0.0.0.0", port, media_low, media_high, keep, certificate)
    listener = listen(config)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    run(listener, config, key)
    return DONE


if __name__ == "__main__":
    raise SystemExit(main())
