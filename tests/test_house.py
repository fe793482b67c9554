"""The rules of the house: which room may know which, what the field programs may need, what the files promise."""

from __future__ import annotations

import ast
import re
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PACKAGE = ROOT / "tarnfell"

# room: rooms it may import from
MAY_KNOW: dict[str, set[str]] = {
    "core": {"wire"},
    "wire": set(),
    "media": {"wire"},
    "probe": {"wire", "media", "farend"},
    "farend": {"wire", "media"},
    "webrtc": {"wire", "media", "farend"},
    "websocket": {"wire", "media", "farend", "store"},
    "standin": {"wire", "media"},
    "store": {"core", "wire"},
    "report": {"core"},
    "exchange": {"core", "wire"},
    "work": {"core", "wire", "store", "exchange", "report"},
    "clerk": {"wire", "store", "work"},
    # It hands the probe's file out.
    "server": {"core", "wire", "store", "work", "report", "exchange", "probe"},
    # What a stand-in does to packets and messages, the demo's history has done to it as well.
    "demo": {"core", "wire", "media", "probe", "standin", "store", "work", "server"},
    "cli": {
        "core",
        "wire",
        "media",
        "probe",
        "farend",
        "webrtc",
        "websocket",
        "exchange",
        "store",
        "work",
        "report",
        "clerk",
        "server",
        "demo",
    },
}
FIELD_ROOMS = ("wire", "media", "probe", "farend")
FORBIDDEN_IN_CORE = {"socket", "sqlite3", "flask", "time", "random", "secrets", "os", "pathlib", "subprocess"}


def modules(room: str) -> list[Path]:
    found = PACKAGE / f"{room}.py"
    return [found] if found.exists() else sorted((PACKAGE / room).rglob("*.py"))


def imports(file: Path) -> set[str]:
    names: set[str] = set()
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{file}: relative import"
            names.add(node.module or "")
            if node.module == "tarnfell":
                names |= {f"tarnfell.{alias.name}" for alias in node.names}
    return names


def test_every_room_is_in_the_plan() -> None:
    rooms = {p.name for p in PACKAGE.iterdir() if p.is_dir() and p.name not in ("__pycache__", "web")}  # web is built
    assert rooms == set(MAY_KNOW)


@pytest.mark.parametrize("room", MAY_KNOW)
def test_imports_go_one_way(room: str) -> None:
    for file in modules(room):
        known = {name.split(".")[1] for name in imports(file) if re.match(r"tarnfell\.\w", name)} - {"__version__"}
        assert known <= MAY_KNOW[room] | {room}, f"{file.relative_to(ROOT)} knows {known - MAY_KNOW[room]}"


def test_core_knows_the_values_of_kinds_and_no_bytes() -> None:
    for file in modules("core"):
        known = {name for name in imports(file) if name.startswith("tarnfell.wire")}
        assert known <= {
            f"tarnfell.wire.kinds.{kind}"
            for kind in ("check", "fill", "look", "path", "reach", "signalling", "translation")
        } | {
            "tarnfell.wire",
            "tarnfell.wire.sip",
        }, file


def test_core_touches_nothing_outside() -> None:
    for file in modules("core"):
        assert not {name.split(".")[0] for name in imports(file)} & FORBIDDEN_IN_CORE, file


@pytest.mark.parametrize("room", FIELD_ROOMS)
def test_field_programs_need_only_python_3_9(room: str) -> None:
    for file in modules(room):
        text = file.read_text(encoding="utf-8")
        tree = ast.parse(text, feature_version=(3, 9))
        outside = {name.split(".")[0] for name in imports(file)} - {"tarnfell"}
        assert outside <= set(sys.stdlib_module_names), f"{file}: {outside}"
        newer = [n for n in ast.walk(tree) if isinstance(n, ast.Call) and any(k.arg == "strict" for k in n.keywords)]
        assert not newer, f"{file}: zip(strict=) is newer than 3.9"
        assert "from __future__ import annotations" in text or "import" not in text, file


def test_make_has_a_target_for_every_habit() -> None:
    text = (ROOT / "Makefile").read_text()
    for target in ("demo", "test", "lint", "types", "bench", "screenshots"):
        assert re.search(rf"^{target}:", text, re.M), target
    assert "make test" in (ROOT / ".ci" / "run").read_text()


def test_readme_links_every_screenshot_and_every_link_leads_somewhere() -> None:
    text = (ROOT / "README.md").read_text()
    links = re.findall(r"\]\(([^)#]+)\)", text)
    for link in links:
        assert link.startswith("http") or (ROOT / link).exists(), link
    shots = {f"docs/screenshots/{f.name}" for f in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert shots <= set(links)
    assert 0 < len(shots) < 20


def test_documented_commands_exist() -> None:
    """Each `tarnfell VERB` in the documents is a verb of the command line."""
    cli = (PACKAGE / "cli" / "verbs.py").read_text()
    for file in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for verb in re.findall(r"tarnfell (\w+) ", file.read_text()):
            if verb in ("call", "analyse", "quality", "plan", "farend", "probe", "serve", "clerk", "demo"):
                assert f'"{verb}"' in cli


def test_made_up_names_and_documentation_addresses_only() -> None:
    text = "".join(file.read_text() for file in (PACKAGE / "demo").glob("*.py"))
    for address in re.findall(r"\b\d+\.\d+\.\d+\.\d+\b", text):
        assert re.match(r"(192\.0\.2|198\.51\.100|203\.0\.113|127\.)", address), address
    for domain in re.findall(r"@([\w.]+)", text):
        if "." in domain:
            assert domain.endswith(".example"), domain
