"""A browser's offer taken to a far end, and its answer brought back: for the server, which holds the key."""

from __future__ import annotations

from tarnfell.media.channel import ChannelClosed
from tarnfell.probe.connect import CallError, connect
from tarnfell.wire import WireError, failures
from tarnfell.wire.browser import BrowserCalls
from tarnfell.wire.kinds.fields import plain

ANSWER_S = 10.0


def answer_of(host: str, port: int, key: str, asked: BrowserCalls) -> str:
    """The far end's answer (SDP, RFC 8866). Raises CallError."""
    channel, _, _ = connect(host, port, key.encode())
    try:
        channel.send({"browser": plain(asked)})
        told = channel.receive_json(ANSWER_S)
    except (ChannelClosed, TimeoutError, WireError) as error:
        raise CallError(f"The far end at {host} did not answer: {error}", failures.GONE) from None
    finally:
        channel.close()
    accepted = told.get("accepted")
    answer = accepted.get("answer") if isinstance(accepted, dict) else None
    if isinstance(answer, str):
        return answer
    reason = str(told.get("refused", "it gave no reason"))
    if reason == "wrong key":
        raise CallError(f"The far end at {host} did not accept the key.", failures.KEY)
    raise CallError(f"The far end at {host} refused: {reason}", failures.REFUSED)
