"""Single changes to the code, one after the other, and whether any test notices: ``make mutants``.

A sample of the changes that Cosmic Ray knows (comparisons, arithmetic, conditions, exceptions) and of our own (a number
doubled, a line that syncs, sorts or clears taken out), drawn by a fixed seed from the rooms that compute, keep and
decide. Each is made in a copy of the checkout; the tests that mirror its room are run first, then those that use it
from outside. What nobody noticed is printed with its line, so that a test can be written for it.
"""

from __future__ import annotations

import argparse
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names

ROOT = Path(__file__).parents[1]
FIRST: dict[str, tuple[str, ...]] = {
    "core": ("tests/core", "tests/work"),
    "exchange": ("tests/exchange",),
    "store": ("tests/store", "tests/work"),
    "work": ("tests/work", "tests/clerk"),
    "probe": ("tests/probe",),
    "wire": ("tests/wire",),
}
"""Rooms, and the tests that mirror them."""
THEN: dict[str, tuple[str, ...]] = {
    "probe": ("tests/media/test_real_calls.py", "tests/server/test_agent.py"),
    "wire": ("tests/probe", "tests/server/test_watch.py"),
}
"""Those that use a room from outside."""
REST = ("tests/report", "tests/server", "tests/test_cli.py")
SLOW = (
    "tests/server/test_killed.py",
    "tests/server/test_pressure.py",
    "tests/server/test_any_request.py",
    "tests/server/test_one_file_probe.py",
)
"""Left out, each being minutes of what others try in seconds."""
LIMIT_S = 600
SKIPPED = ("core/NumberReplacer", "core/VariableInserter", "core/VariableReplacer")
"""Cosmic Ray's own number changes are by one, which a tolerance rightly forgives; ours doubles. The others want to be
told names of variables."""
NUMBER = re.compile(r"(?<![\w.\"'])(\d[\d_]*\.?\d*)(?![\w.\"'])")
CALL = re.compile(r"^\s*(os\.fsync\(|.*\.flush\(\)|session\.clear\(\)|.*PRAGMA synchronous|.*\.sort\(|db\.execute\()")


@dataclass(frozen=True)
class Mutant:
    file: Path
    line: int
    what: str
    text: str


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--room", action="append", choices=sorted(FIRST))
    parser.add_argument(
        "--mirror-only", action="store_true", help="only the mirroring tests: a lower bound, in minutes"
    )
    options = parser.parse_args()
    rooms = options.room or sorted(FIRST)
    chance = random.Random(options.seed)
    sample = [_mutant(chance, rooms) for _ in range(options.count)]
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "checkout"
        shutil.copytree(ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", "node_modules", ".hypothesis"))
        survivors = [
            mutant
            for number, mutant in enumerate(sample, 1)
            if not _killed(copy, mutant, f"{number}/{len(sample)}", options.mirror_only)
        ]
    killed = len(sample) - len(survivors)
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
        if _counts(text.split("\n")[line - 1]):
            return Mutant(file.relative_to(ROOT), line, what, changed)


def _is_python(text: str) -> bool:
    try:
        compile(text, "mutant", "exec")
    except SyntaxError:
        return False
    return True


def _counts(line: str) -> bool:
    """Not a comment, a docstring, an import or a type, where a change is none."""
    bare = line.strip()
    types = ("Literal[", "->", "| None", ": tuple[", ": list[", ": dict[")
    return not bare.startswith(("#", '"', "'", "import ", "from ", "@")) and not any(word in bare for word in types)


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
    name = chance.choice([name for name in operator_names() if name not in SKIPPED])
    operator = get_operator(name)()
    places = sum(len(list(operator.mutation_positions(node))) for node in ast_nodes(get_ast(text)))
    if not places:
        return None
    return name, str(mutate_code(text, operator, chance.randrange(places)))


def _killed(copy: Path, mutant: Mutant, count: str, mirror_only: bool) -> bool:
    place = copy / mutant.file
    whole = place.read_text(encoding="utf-8")
    began = time.monotonic()
    try:
        place.write_text(mutant.text, encoding="utf-8")
        room = mutant.file.parts[1]
        tried = (FIRST[room],) if mirror_only else (FIRST[room], THEN.get(room, REST))
        by = next((tests for tests in tried if not _pass(copy, tests)), None)
    finally:
        place.write_text(whole, encoding="utf-8")
    state = f"noticed by {' '.join(by)}" if by else "NOBODY NOTICED"
    took_s = time.monotonic() - began
    print(f"{count} {mutant.file}:{mutant.line} {mutant.what}: {state} ({took_s:.0f} s)", flush=True)
    if not by:
        print("    " + mutant.text.split("\n")[mutant.line - 1].strip(), flush=True)
    return by is not None


def _pass(copy: Path, tests: tuple[str, ...]) -> bool:
    command = [sys.executable, "-m", "pytest", "-x", "-q", "--no-header", "-p", "no:cacheprovider", *tests]
    command += [f"--ignore={slow}" for slow in SLOW]
    if "tests/server" in tests:
        command += [f"--ignore={outside}" for outside in THEN["probe"]]
    try:
        return subprocess.run(command, cwd=copy, capture_output=True, timeout=LIMIT_S, check=False).returncode == 0
    except subprocess.TimeoutExpired:
        return False


if __name__ == "__main__":
    raise SystemExit(main())
