"""A fresh clone, installed as a package into an environment of its own: nothing it needs was left behind."""

from __future__ import annotations

import os
import subprocess
import sys
import sysconfig
from pathlib import Path

import pytest

from tests import rig

ROOT = Path(__file__).parents[1]

CHECK = """
import tempfile
from pathlib import Path
import tarnfell
from tarnfell.core.codecs import codec_table
from tarnfell.report.render import style, _template
from tarnfell.server.http.app import create_app
print(Path(tarnfell.__file__).parent)
assert codec_table()
assert "@font-face" in style()
_template()
with tempfile.TemporaryDirectory() as folder:
    client = create_app(Path(folder)).test_client()
    assert client.get("/api/openapi.json").status_code == 200
    assert client.get("/api/health").json == {"version": tarnfell.__version__, "clerk": "absent"}
    assert client.get("/").text == "the front end"
    assert client.get("/assets/app-1.js").text == "its code"
assert (Path(tarnfell.__file__).parent / "py.typed").exists()
"""


def run(*command: object, **options: object) -> str:
    done = subprocess.run(
        [str(c) for c in command], capture_output=True, text=True, timeout=rig.HANGS_S, check=False, **options
    )  # type: ignore[call-overload]
    assert done.returncode == 0, done.stdout + done.stderr
    return str(done.stdout)


def test_fresh_clone_installs_whole(tmp_path: Path) -> None:
    if not (ROOT / ".git").exists():
        pytest.skip("not a git checkout")
    clone, venv = tmp_path / "clone", tmp_path / "venv"
    run("git", "clone", "--quiet", "--no-hardlinks", ROOT, clone)
    # In place of a front end built by Node, which tests/browser drives.
    (clone / "tarnfell" / "web" / "assets").mkdir(parents=True)
    (clone / "tarnfell" / "web" / "index.html").write_text("the front end")
    (clone / "tarnfell" / "web" / "assets" / "app-1.js").write_text("its code")
    run(sys.executable, "-m", "venv", "--without-pip", venv)
    python = venv / "bin" / "python"
    site = Path(run(python, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))").strip())
    # The dependencies are the ones this test runs with; only Tarnfell itself is installed anew.
    run(
        sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-build-isolation",
        "--disable-pip-version-check", "--target", site, clone,
    )  # fmt: skip
    (site / "dependencies.pth").write_text(sysconfig.get_path("purelib") + "\n")
    env = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
    where = run(python, "-c", CHECK, cwd=tmp_path, env=env).strip()
    assert where == str(site / "tarnfell")
