"""A path through routers by what other systems than Linux give a program."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests import rig
from tests.lab.conftest import NEEDS_ROOT, row_of

pytestmark = [pytest.mark.lab, NEEDS_ROOT]

# As macOS has it: a socket for echoes alone, which is given whole packets, errors of routers among them. Here a raw
# one, which is given the same.
AS_MACOS = """
import json, socket, sys
from tarnfell.media import host
from tarnfell.media.tracing import flows, tracer
from tarnfell.wire.kinds.fields import plain

host.HERE = host.Platform(linux=False, windows=False, forks=True)
as_echoes = flows._raw_icmp
flows._raw_icmp = lambda: None
flows._ping_socket = lambda v6: as_echoes()
print(json.dumps(plain(tracer.path(sys.argv[1], 9, rounds=3, dscp=46))))
"""


def test_routers_tell_a_socket_for_echoes_alone_where_their_lifetime_ended() -> None:
    with row_of("site", "edge", "beyond", "far") as row:
        done = subprocess.run(
            [*row.inside("site"), sys.executable, "-c", AS_MACOS, row.address["far"]],
            capture_output=True, text=True, timeout=rig.HANGS_S, check=True, cwd=Path(__file__).parents[2],
        )  # fmt: skip
        found = json.loads(done.stdout)
    assert (found["method"], found["reached"], found["sees_marking"]) == ("icmp", True, True)
    assert [(hop["address"], hop["sent"], len(hop["rtt_ms"])) for hop in found["hops"]] == [
        (row.address[part], 3, 3) for part in ("edge", "beyond", "far")
    ]
    assert [hop.get("dscp_seen") for hop in found["hops"]] == [46, 46, None]
