"""What a probe can be told to do besides placing calls."""

from __future__ import annotations

import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.probe.connect import CallError, connect
from tarnfell.probe.http import Refused, ServerClient, Unreachable
from tarnfell.probe.program import ReplaceError, command_line, program_digest, replace_own_file, start_anew
from tarnfell.probe.state import State
from tarnfell.probe.surroundings import addresses
from tarnfell.wire import WireError
from tarnfell.wire.control import Seal

_CONNECT_S = 3.0
_CONNECTS = 3
_MAX_FAR_ENDS = 50
_ANSWER_STARTS_S = 10.0


class CommandError(RuntimeError):
    """The command could not be carried out; the text says why."""


class Ended(Exception):
    """The server has ended this probe's work; nothing is left on the machine."""


class Commander:
    """Carries commands out, and keeps the far end that this probe may be."""

    def __init__(self, state: State, client: ServerClient) -> None:
        self._state = state
        self._client = client
        self._answering: subprocess.Popen[bytes] | None = None

    def do(self, command: dict[str, Any]) -> dict[str, Any]:
        """The result for the server. Raises CommandError."""
        what: Callable[[dict[str, Any]], dict[str, Any]] | None = {
            "distances": self._distances,
            "answer": self._answer,
            "silence": self._silence,
            "update": self._update,
            "end": self._silence,
        }.get(command["kind"])
        if what is None:
            raise CommandError(f"This probe does not know “{command['kind']}”. Update it, then ask again.")
        return what(command.get("arguments") or {})

    def own_up(self) -> None:
        """Tell how the command ended during which this program last ended."""
        command = self._state.cut_off_command()
        if command is None:
            return
        number = int(command["id"])
        if command["kind"] == "update" and program_digest() == command["arguments"].get("program"):
            self._state.keep_outcome(number, {"program": program_digest()}, None)
        else:
            self._state.keep_outcome(number, None, "The probe was ended before this was done. Try again.")
        self._state.end_command()

    def resume(self) -> None:
        """Answer calls again if this probe did before it was restarted."""
        how = self._state.answering()
        if how:
            try:
                self._start_answering(how)
            except CommandError:
                pass  # heard of when somebody calls it; the probe's own work goes on

    def close(self) -> None:
        if self._answering and self._answering.poll() is None:
            self._answering.terminate()
            try:
                self._answering.wait(5)
            except subprocess.TimeoutExpired:
                self._answering.kill()
                self._answering.wait()
        self._answering = None

    def _distances(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Least time to open a connection to each far end: one round trip and whatever filters do to it.

        Where the server tells its key, whether the far end takes that as well.
        """
        found = []
        for far in list(arguments.get("far_ends") or [])[:_MAX_FAR_ENDS]:
            one: dict[str, Any] = {"id": far["id"], **_distance(far["host"], far["port"])}
            if far.get("key") and "connect_ms" in one:
                one["key_fits"] = _key_fits(far["host"], int(far["port"]), str(far["key"]).encode())
            found.append(one)
        return {"distances": found}

    def _answer(self, arguments: dict[str, Any]) -> dict[str, Any]:
        how = {name: arguments[name] for name in ("port", "media_low", "media_high", "key")}
        self.close()
        self._start_answering(how)
        self._state.keep_answering(how)
        own = [line.split()[1].split("/")[0] for line in addresses(Path("/"))]
        return {"addresses": own}

    def _silence(self, _: dict[str, Any]) -> dict[str, Any]:
        self.close()
        self._state.keep_answering(None)
        return {}

    def _start_answering(self, how: dict[str, Any]) -> None:
        child = subprocess.Popen(
            command_line(
                "--state",
                str(self._state.folder),
                "answer",
                str(how["port"]),
                str(how["media_low"]),
                str(how["media_high"]),
            ),
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        assert child.stdin is not None
        assert child.stderr is not None
        try:
            child.stdin.write(str(how["key"]).encode() + b"\n")
            child.stdin.flush()
        except BrokenPipeError:
            pass  # it ended at once and says why
        deadline = time.monotonic() + _ANSWER_STARTS_S
        while time.monotonic() < deadline:
            if child.poll() is not None:
                words = child.stderr.read().decode(errors="replace").strip().splitlines()
                raise CommandError(words[-1] if words else "The far end ended as soon as it was started.")
            if "connect_ms" in _distance("127.0.0.1", int(how["port"]), 1):
                self._answering = child
                return
            time.sleep(0.1)
        child.kill()
        child.wait()
        raise CommandError("The far end did not start to listen.")

    def _update(self, arguments: dict[str, Any]) -> dict[str, Any]:
        if program_digest() == arguments["program"]:
            return {"program": program_digest()}
        try:
            replace_own_file(self._client.fetch("/api/probe/program"), str(arguments["sha256"]))
        except (ReplaceError, Refused, Unreachable) as error:
            raise CommandError(str(error)) from None
        self.close()
        start_anew()
        raise CommandError("The new program could not be started.")


def _key_fits(host: str, port: int, key: bytes) -> bool | None:
    """Whether a far end takes the key; None where it did not come to that.

    It is asked for no streams at all. One that shares the key says so under it; one that does not cannot.
    """
    try:
        channel, _, _ = connect(host, port, key)
    except CallError:
        return None
    try:
        channel.send({"up": [], "down": []})
        return "refused" in channel.receive_json(_CONNECT_S)
    except WireError:
        return False
    except (ChannelClosed, TimeoutError):
        return None
    finally:
        channel.close()


def _distance(host: str, port: int, tries: int = _CONNECTS) -> dict[str, Any]:
    """Least time to connect, once what answers has greeted as a far end; or why there is none."""
    best: float | None = None
    for _ in range(tries):
        began = time.perf_counter()
        try:
            sock = socket.create_connection((host, int(port)), _CONNECT_S)
        except (OSError, OverflowError, UnicodeError) as error:
            return {"failure": str(getattr(error, "strerror", None) or error or "no answer")}
        took = (time.perf_counter() - began) * 1000
        channel = Channel(sock, Seal("probe", None), Seal("farend", None))
        try:
            if "tarnfell" not in channel.receive_json(_CONNECT_S):
                raise WireError("no greeting")
        except (WireError, ChannelClosed, TimeoutError):
            return {"failure": "something answers there, but it is no far end"}
        finally:
            channel.close()
        best = took if best is None else min(best, took)
    return {"connect_ms": best}
