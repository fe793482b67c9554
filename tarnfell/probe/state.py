"""What a probe keeps on its disk besides results: who it is, the jobs in its hands, and what stands without end.

Everything is written whole or not at all, so that a power cut at any moment leaves a state that can be read.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from tarnfell.probe.locks import hold
from tarnfell.probe.spool import Spool, read_json, write_whole


class AgentError(RuntimeError):
    """The probe cannot do what it was told; the text says why."""


@dataclass(frozen=True)
class Enrolment:
    server: str
    secret: str
    name: str
    site: str


@dataclass(frozen=True)
class JobInHand:
    """A job this probe was given and has not kept a result of."""

    id: int
    kind: str
    arguments: Mapping[str, object]


class State:
    """One probe's folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.spool = Spool(folder / "spool")
        self._jobs = folder / "jobs"
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
        self.spool.folder.mkdir(parents=True, exist_ok=True)
        self._jobs.mkdir(exist_ok=True)
        self._lock = hold(self.folder / "lock")
        if self._lock is None:
            raise AgentError("This probe already runs on this machine. Leave that one running.")

    def release(self) -> None:
        if self._lock:
            self._lock.close()
            self._lock = None

    def keep_job(self, job: JobInHand) -> None:
        write_whole(self._jobs / f"{job.id:09d}.json", json.dumps(vars(job)).encode(), private=True)

    def drop_job(self, number: int) -> None:
        """Once its result is in the spool."""
        (self._jobs / f"{number:09d}.json").unlink(missing_ok=True)
        self.job_lock(number).unlink(missing_ok=True)

    def jobs_in_hand(self) -> list[JobInHand]:
        """In the order they were asked for."""
        found = (read_json(path) for path in sorted(self._jobs.glob("*.json")))
        jobs = []
        for one in found:
            try:
                jobs.append(JobInHand(**one))  # type: ignore[arg-type]
            except TypeError:
                continue  # damaged: the server gives the job again, or says that it was lost
        return jobs

    def job_lock(self, number: int) -> Path:
        """Held by the process that works on the job."""
        return self._jobs / f"{number:09d}.lock"

    def keep_wanted(self, name: str, how: Mapping[str, object] | None) -> None:
        """What goes on until it is told otherwise: ``answering`` or ``watch``. None: no longer."""
        path = self.folder / f"{name}.json"
        if how is None:
            path.unlink(missing_ok=True)
        else:
            write_whole(path, json.dumps(how).encode(), private=True)

    def wanted(self, name: str) -> Mapping[str, object] | None:
        return read_json(self.folder / f"{name}.json")

    def take_over(self) -> list[JobInHand]:
        """What a program of before was doing when it ended, told once: it kept one run and one command apart."""
        found = []
        for name, kind in (("current-job.json", "calls"), ("current-command.json", "")):
            held = read_json(self.folder / name)
            if held and isinstance(held.get("id"), int):
                found.append(JobInHand(held["id"], str(held.get("kind", kind)), dict(held.get("arguments") or {})))
            (self.folder / name).unlink(missing_ok=True)
        return found

    def clear(self) -> None:
        """Leave nothing on this machine."""
        self.release()
        shutil.rmtree(self.folder, ignore_errors=True)
