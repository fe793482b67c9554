"""What whoever watches the server is told."""

from __future__ import annotations

from tarnfell import __version__
from tarnfell.store.lock import only_one
from tests.server.conftest import House


def test_health_tells_version_and_clerk_to_anyone(house: House) -> None:
    def told() -> object:
        return house.app.test_client().get("/api/health").json

    assert told() == {"version": __version__, "clerk": "absent"}
    with only_one(house.folder, "clerk"):
        assert told() == {"version": __version__, "clerk": "working"}
    assert told() == {"version": __version__, "clerk": "absent"}
