"""Single changes to the code, one after the other, and whether any test notices: ``make mutants``.

A sample of the changes that Cosmic Ray knows (comparisons, arithmetic, conditions, exceptions) and of our own (a number
doubled, a line that syncs, sorts or clears taken out), drawn by a fixed seed from the rooms that compute, keep and
decide. Which tests run which line is recorded once and kept until code or tests change; each change is made in a copy
of the checkout, where the tests that run the changed line are run, the shortest first. What nobody noticed is printed
with its line, so that a test can be written for it.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import os
import queue
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from xml.etree import ElementTree

import pytest
from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names
from coverage import CoverageData

ROOT = Path(__file__).parents[1]
ROOMS = ("core", "exchange", "probe", "store", "wire", "work")
MIRRORS: dict[str, tuple[str, ...]] = {
    "core": ("tests/core", "tests/work"),
    "exchange": ("tests/exchange",),
    "store": ("tests/store", "tests/work"),
    "work": ("tests/work", "tests/clerk"),
    "probe": ("tests/probe", "tests/media/test_real_calls.py", "tests/server/test_agent.py"),
    "wire": ("tests/wire", "tests/probe"),
}
"""Run where the record knows no test of a line: it runs in a process of its own, or where the module is read."""
SLOW = (
    "tests/browser",
    "tests/lab",
    "tests/charts",
    "tests/demo",
    "tests/media/test_other_pythons.py",
    "tests/media/test_path.py",
    "tests/media/test_real_calls.py",
    "tests/media/test_short_call.py",
    "tests/media/test_video.py",
    "tests/test_install.py",
    "tests/server/test_killed.py",
    "tests/server/test_pressure.py",
    "tests/server/test_any_request.py",
    "tests/server/test_one_file_probe.py",
    "tests/server/test_agent.py",
)
"""Not recorded: each is minutes of what others try in seconds, or tries it in other processes."""
AFTER = {
    "probe": ("tests/media/test_real_calls.py", "tests/server/test_agent.py", "tests/server/test_one_file_probe.py")
}
"""Slow ones of a room whose code runs in processes of its own, which leave no record: for what nothing else noticed."""
KEPT = ROOT / ".set-up" / "mutants"
BOUNDS = "tests/test_bounds.py"
LIMIT_S = 600
AT_MOST_S = 90.0
"""A line that every test runs is tried with the shortest of them, up to so many seconds."""
SKIPPED = ("core/NumberReplacer", "core/VariableInserter", "core/VariableReplacer")
"""Cosmic Ray's own number changes are by one, which a tolerance rightly forgives; ours doubles. The others want to be
told names of variables."""
SAME = re.compile(r"_(Is|IsNot)(_|$)")
"""``is`` for ``==`` and the reverse: the linter refuses it (F632), or Python keeps what is compared once."""
NUMBER = re.compile(r"(?<![\w.\"'])(\d[\d_]*\.?\d*)(?![\w.\"'])")
CALL = re.compile(r"^\s*(os\.fsync\(|.*\.flush\(\)|session\.clear\(\)|.*PRAGMA synchronous|.*\.sort\(|db\.execute\()")
NAMED = re.compile(r"^(_?[A-Z][A-Z0-9_]+)\b\s*[:=]")


@dataclass(frozen=True)
class Mutant:
    file: Path
    line: int
    what: str
    text: str


class Record:
    """Which tests run which line, and how long each takes."""

    def __init__(self) -> None:
        KEPT.mkdir(parents=True, exist_ok=True)
        self._lines: dict[str, dict[int, set[str]]] = {}
        state = hashlib.sha256()
        for file in sorted([*(ROOT / "tarnfell").rglob("*.py"), *(ROOT / "tests").rglob("*.py")]):
            state.update(file.read_bytes())
        stamp, cover, times = KEPT / "of", KEPT / "coverage", KEPT / "times.xml"
        if not stamp.exists() or stamp.read_text() != state.hexdigest():
            _recorded(cover, times)
            stamp.write_text(state.hexdigest())
        self._data = CoverageData(str(cover))
        self._data.read()
        self._took = {
            f"{case.get('classname', '').replace('.', '/')}.py::{case.get('name')}": float(case.get("time", "0"))
            for case in ElementTree.parse(times).iter("testcase")
            if case.find("failure") is None and case.find("error") is None
        }

    def tests(self, mutant: Mutant) -> tuple[str, ...]:
        """Those that run the changed line, or for a value of the module the lines that name it; else the mirrors."""
        found = set(self._of(mutant.file).get(mutant.line, ()))
        named = NAMED.match(mutant.text.split("\n")[mutant.line - 1])
        if named:
            found |= self._naming(named.group(1))
        elif not found:
            # A value over several lines belongs to the name above it.
            above = mutant.text.split("\n")[: mutant.line]
            name = next((m.group(1) for line in reversed(above) if (m := NAMED.match(line))), None)
            found |= self._naming(name) if name else set()
        found = {test for test in found if test in self._took}
        if not found:
            return MIRRORS[mutant.file.parts[1]]
        # What reads a value of a module from outside leaves no record of that.
        return (*self._shortest(found), *((BOUNDS,) if named else ()))

    def _naming(self, name: str) -> set[str]:
        word = re.compile(rf"\b{name}\b")
        found: set[str] = set()
        for file in sorted((ROOT / "tarnfell").rglob("*.py")):
            text = file.read_text(encoding="utf-8")
            if name in text:
                lines = self._of(file.relative_to(ROOT))
                for number, line in enumerate(text.split("\n"), 1):
                    if word.search(line):
                        found |= lines.get(number, set())
        return found

    def _of(self, file: Path) -> dict[int, set[str]]:
        if str(file) not in self._lines:
            measured = next((name for name in self._data.measured_files() if name.endswith(f"/{file}")), "")
            self._lines[str(file)] = {
                line: {context.rpartition("|")[0] for context in contexts if context}
                for line, contexts in self._data.contexts_by_lineno(measured).items()
            }
        return self._lines[str(file)]

    def _shortest(self, tests: Iterable[str]) -> Iterable[str]:
        total = 0.0
        for test in sorted(tests, key=lambda test: (self._took[test], test)):
            total += self._took[test]
            if total > AT_MOST_S and total > self._took[test]:
                return
            yield test


def _recorded(cover: Path, times: Path) -> None:
    print("Recording which tests run which line: some minutes.", flush=True)
    command = [sys.executable, "-m", "pytest", "-q", "--no-header", "-p", "no:cacheprovider", "tests"]
    command += ["--cov=tarnfell", "--cov-context=test", "--cov-report=", f"--junit-xml={times}"]
    command += [f"--ignore={slow}" for slow in SLOW]
    cover.unlink(missing_ok=True)
    done = subprocess.run(command, cwd=ROOT, env=os.environ | {"COVERAGE_FILE": str(cover)}, check=False)
    if done.returncode == pytest.ExitCode.TESTS_FAILED:
        print("Tests that fail as they are find nothing, and are left out.", flush=True)
    elif done.returncode:
        raise SystemExit("The tests could not be run.")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--room", action="append", choices=ROOMS)
    parser.add_argument("--jobs", type=int, default=1, help="changes tried side by side")
    options = parser.parse_args()
    record = Record()
    chance = random.Random(options.seed)
    sample = [_mutant(chance, options.room or list(ROOMS)) for _ in range(options.count)]
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(options.jobs) as pool:
        copies: queue.Queue[Path] = queue.Queue()
        for number in range(options.jobs):
            copy = Path(folder) / f"checkout{number}"
            shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", "node_modules", ".hypothesis"))
            copies.put(copy)

        def tried(mutant: Mutant) -> bool:
            copy = copies.get()
            try:
                return _killed(copy, mutant, record.tests(mutant))
            finally:
                copies.put(copy)

        killed = sum(pool.map(tried, sample))
    print(f"{killed} of {len(sample)} noticed ({100 * killed / len(sample):.0f} %)")
    return 0


def _mutant(chance: random.Random, rooms: list[str]) -> Mutant:
    """One change, each file drawn by its length."""
    while True:
        files = [file for room in rooms for file in sorted((ROOT / "tarnfell" / room).rglob("*.py"))]
        file = chance.choices(files, [file.stat().st_size for file in files])[0]
        text = file.read_text(encoding="utf-8")
        found = _own(chance, text) if chance.random() < 0.4 else _of_cosmic_ray(chance, text)
        if found is None or found[1] == text or not _is_python(found[1]):
            continue
        what, changed = found
        line = next(i for i, (a, b) in enumerate(zip(text.split("\n"), changed.split("\n"), strict=False), 1) if a != b)
        if _counts(text.split("\n")[line - 1]) and line not in _described(text):
            return Mutant(file.relative_to(ROOT), line, what, changed)


def _is_python(text: str) -> bool:
    try:
        compile(text, "mutant", "exec")
    except SyntaxError:
        return False
    return True


def _counts(line: str) -> bool:
    """Not a comment, an import or a type, where a change is none."""
    bare = line.strip()
    types = ("Literal[", "->", "| None", ": tuple[", ": list[", ": dict[")
    return not bare.startswith(("#", '"', "'", "import ", "from ", "@")) and not any(word in bare for word in types)


def _described(text: str) -> set[int]:
    """Lines of docstrings, of whatever they stand in or beneath."""
    alone = (one for one in ast.walk(ast.parse(text)) if isinstance(one, ast.Expr))
    return {
        line
        for one in alone
        if isinstance(one.value, ast.Constant) and isinstance(one.value.value, str)
        for line in range(one.lineno, (one.end_lineno or one.lineno) + 1)
    }


def _own(chance: random.Random, text: str) -> tuple[str, str] | None:
    """A number doubled, or a line that keeps, sorts or clears taken out."""
    lines = text.split("\n")
    at = chance.randrange(len(lines))
    if CALL.match(lines[at]) and lines[at].rstrip().endswith(")"):
        indent = len(lines[at]) - len(lines[at].lstrip())
        return "taken out", "\n".join([*lines[:at], " " * indent + "pass", *lines[at + 1 :]])
    numbers = list(NUMBER.finditer(lines[at]))
    if not numbers:
        return None
    one = chance.choice(numbers)
    value = float(one.group(1).replace("_", ""))
    fresh = f"{2 * value + (value == 0):g}" if "." in one.group(1) else str(int(2 * value + (value == 0)))
    lines[at] = lines[at][: one.start()] + fresh + lines[at][one.end() :]
    return f"{one.group(1)} → {fresh}", "\n".join(lines)


def _of_cosmic_ray(chance: random.Random, text: str) -> tuple[str, str] | None:
    name = chance.choice([name for name in operator_names() if name not in SKIPPED and not SAME.search(name)])
    operator = get_operator(name)()
    places = sum(len(list(operator.mutation_positions(node))) for node in ast_nodes(get_ast(text)))
    if not places:
        return None
    return name, str(mutate_code(text, operator, chance.randrange(places)))


def _killed(copy: Path, mutant: Mutant, tests: tuple[str, ...]) -> bool:
    place = copy / mutant.file
    whole = place.read_text(encoding="utf-8")
    began = time.monotonic()
    try:
        place.write_text(mutant.text, encoding="utf-8")
        killed = not _pass(copy, tests)
        slow = AFTER.get(mutant.file.parts[1])
        if slow and not killed and tests != MIRRORS[mutant.file.parts[1]]:
            killed = not _pass(copy, slow)
    finally:
        place.write_text(whole, encoding="utf-8")
    state = "noticed" if killed else "NOBODY NOTICED"
    took_s = time.monotonic() - began
    said = f"{mutant.file}:{mutant.line} {mutant.what}: {state} ({len(tests)} tests, {took_s:.0f} s)"
    print(said if killed else f"{said}\n    {mutant.text.split(chr(10))[mutant.line - 1].strip()}", flush=True)
    return killed


def _pass(copy: Path, tests: tuple[str, ...]) -> bool:
    command = [sys.executable, "-m", "pytest", "-x", "-q", "--no-header", "-p", "no:cacheprovider", *tests]
    with subprocess.Popen(
        command, cwd=copy, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    ) as run:
        try:
            return run.wait(LIMIT_S) == 0
        except subprocess.TimeoutExpired:
            return False
        finally:
            # A change may leave a process behind that never ends.
            try:
                os.killpg(run.pid, signal.SIGKILL)
            except ProcessLookupError:
                pass


if __name__ == "__main__":
    raise SystemExit(main())
