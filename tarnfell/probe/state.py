"""What a probe keeps on its disk: who it is, what it is doing, and results the server has not said it has.

Everything is written whole or not at all, so that a power cut at any moment leaves a state that can be read.
"""

from __future__ import annotations

import json
import os
import shutil
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from tarnfell.probe.halves import Ticket
from tarnfell.wire.failures import Failure


class AgentError(RuntimeError):
    """The probe cannot do what it was told; the text says why."""


@dataclass(frozen=True)
class Enrolment:
    server: str
    secret: str
    name: str
    site: str


class State:
    """One probe's folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.spool = folder / "spool"
        self._current = folder / "current-job.json"
        self._command = folder / "current-command.json"
        self._answering = folder / "answering.json"
        self._lock: BinaryIO | None = None

    @property
    def enrolled(self) -> bool:
        return (self.folder / "enrolment.json").is_file()

    def enrolment(self) -> Enrolment:
        """Raises AgentError."""
        try:
            return Enrolment(**json.loads((self.folder / "enrolment.json").read_text()))
        except (OSError, ValueError, TypeError):
            raise AgentError(
                f"This probe is not enrolled ({self.folder} holds no enrolment). Use the command on the site's page."
            ) from None

    def keep_enrolment(self, enrolment: Enrolment) -> None:
        """Raises AgentError."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            write_whole(self.folder / "enrolment.json", json.dumps(vars(enrolment)).encode(), private=True)
        except OSError as error:
            raise AgentError(
                f"{self.folder} cannot be written ({error.strerror}): choose another with --state."
            ) from None

    def lock(self) -> None:
        """Make sure that this probe runs once on this machine. Raises AgentError."""
        self.spool.mkdir(parents=True, exist_ok=True)
        lock = open(self.folder / "lock", "wb")  # noqa: SIM115 (held as long as the process lives)
        try:
            if os.name == "posix":
                import fcntl

                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            else:
                import msvcrt

                msvcrt.locking(lock.fileno(), msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        except OSError:
            lock.close()
            raise AgentError("This probe already runs on this machine. Leave that one running.") from None
        self._lock = lock

    def release(self) -> None:
        if self._lock:
            self._lock.close()
            self._lock = None

    def begin_job(self, number: int) -> None:
        write_whole(self._current, json.dumps({"id": number}).encode())

    def end_job(self) -> None:
        self._current.unlink()

    def begin_command(self, command: dict[str, Any]) -> None:
        write_whole(self._command, json.dumps(command).encode())

    def end_command(self) -> None:
        self._command.unlink()

    def cut_off_job(self) -> int | None:
        """The job that was on when this probe last ended."""
        found = _read(self._current)
        return int(found["id"]) if found else None

    def cut_off_command(self) -> dict[str, Any] | None:
        """The command that was on when this probe last ended."""
        return _read(self._command)

    def keep_record(self, number: int, record: bytes) -> None:
        write_whole(self.spool / f"{number:09d}.record", record)

    def keep_ticket(self, number: int, ticket: Ticket) -> None:
        """For the far end's half of a run; written before the record it belongs to."""
        write_whole(self.spool / f"{number:09d}.ticket", json.dumps(ticket._asdict()).encode(), private=True)

    def ticket(self, number: int) -> Ticket | None:
        found = _read(self.spool / f"{number:09d}.ticket")
        try:
            return Ticket(**found) if found else None
        except TypeError:
            return None

    def drop_ticket(self, number: int) -> None:
        (self.spool / f"{number:09d}.ticket").unlink(missing_ok=True)

    def keep_failure(self, number: int, failure: Failure) -> None:
        body = {"reason": failure.reason, "code": failure.code, "server_reachable": failure.server_reachable}
        write_whole(self.spool / f"{number:09d}.failure", json.dumps(body).encode())

    def keep_outcome(self, number: int, result: dict[str, Any] | None, failure: str | None) -> None:
        body = json.dumps({"result": result, "failure": failure}).encode()
        write_whole(self.spool / f"{number:09d}.outcome", body)

    def undelivered(self) -> list[Path]:
        """Results not yet delivered, in the order they were asked for: runs, then outcomes of commands."""
        kinds = (".record", ".failure", ".outcome")
        return sorted(p for p in self.spool.glob("*") if p.suffix in kinds)

    def answering(self) -> dict[str, Any] | None:
        """How this probe answers calls, if it does."""
        return _read(self._answering)

    def keep_answering(self, how: dict[str, Any] | None) -> None:
        if how is None:
            self._answering.unlink(missing_ok=True)
        else:
            write_whole(self._answering, json.dumps(how).encode(), private=True)

    def clear(self) -> None:
        """Leave nothing on this machine."""
        self.release()
        shutil.rmtree(self.folder, ignore_errors=True)


def write_whole(path: Path, data: bytes, private: bool = False) -> None:
    """All of it or nothing, and on the disk before this returns."""
    aside = path.with_name(path.name + ".part")
    descriptor = os.open(aside, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if private else 0o644)
    with os.fdopen(descriptor, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(aside, path)


def _read(path: Path) -> dict[str, Any] | None:
    try:
        return dict(json.loads(path.read_text()))
    except (OSError, ValueError):
        return None
