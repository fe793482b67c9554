"""How far each far end is: least time to open a connection, and whether it takes the key."""

from __future__ import annotations

import socket
import time

from tarnfell.media.channel import Channel, ChannelClosed
from tarnfell.probe.connect import CallError, connect
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire import WireError
from tarnfell.wire.control import Seal
from tarnfell.wire.failures import OWN
from tarnfell.wire.kinds.distances import MAX_FAR_ENDS, DistancesArguments, DistancesResult, FarEndFound
from tarnfell.wire.kinds.fields import plain

CONNECTS = 3
_CONNECT_S = 3.0
MOST_WORDS = 200


def distances(arguments: DistancesArguments, hands: Hands) -> None:
    """Least time to open a connection to each far end: one round trip and whatever filters do to it.

    Where the server tells its key, whether the far end takes that as well.
    """
    found = []
    for far in arguments.far_ends[:MAX_FAR_ENDS]:
        if not hands.go_on():
            raise WorkFailed("It was stopped before every far end was tried.", OWN)
        took_ms, failure = distance(far.host, far.port)
        fits = key_fits(far.host, far.port, far.key.encode()) if far.key and took_ms is not None else None
        found.append(FarEndFound(far.id, took_ms, failure, fits))
    hands.spool.keep_outcome(hands.job, plain(DistancesResult(tuple(found))))


def key_fits(host: str, port: int, key: bytes) -> bool | None:
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


def distance(host: str, port: int, tries: int = CONNECTS) -> tuple[float | None, str | None]:
    """Milliseconds of the least time to connect, once what answers has greeted as a far end; or why there is none."""
    best: float | None = None
    for _ in range(tries):
        began = time.perf_counter()
        try:
            sock = socket.create_connection((host, int(port)), _CONNECT_S)
        except (OSError, OverflowError, UnicodeError) as error:
            return None, str(getattr(error, "strerror", None) or error or "no answer")[:MOST_WORDS]
        took = (time.perf_counter() - began) * 1000
        channel = Channel(sock, Seal("probe", None), Seal("farend", None))
        try:
            if "tarnfell" not in channel.receive_json(_CONNECT_S):
                raise WireError("no greeting")
        except (WireError, ChannelClosed, TimeoutError):
            return None, "something answers there, but it is no far end"
        finally:
            channel.close()
        best = took if best is None else min(best, took)
    return best, None
