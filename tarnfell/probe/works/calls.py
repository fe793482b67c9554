"""Calls placed to a far end; the result is the record of their packets."""

from __future__ import annotations

import time
from dataclasses import asdict, replace

from tarnfell.probe.call import RunResult, place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.halves import Ticket
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire import failures
from tarnfell.wire.kinds.calls import CallsArguments, LiveSecond
from tarnfell.wire.record import Record, join_parts

FAR_END_NOTICES_S = 45.0
"""After a run fell silent: how long the far end may take to see that nobody acknowledges what it says."""


def calls(arguments: CallsArguments, hands: Hands) -> None:
    def watch(live: LiveSecond) -> bool:
        hands.tell(asdict(live))
        return hands.go_on()

    def go_on() -> bool:
        hands.begin()  # it is asked only once packets flow
        return hands.go_on()

    far = (arguments.far_host, arguments.far_port, arguments.far_key)
    try:
        result = place_calls(far[0], far[1], far[2].encode(), arguments.plan, watch, go_on=go_on)
    except CallError as error:
        # Whether the server answers at this instant tells the site's line from the far end.
        reachable = hands.client.reachable() if error.code in failures.OF_THE_NETWORK else None
        raise WorkFailed(str(error), error.code, reachable) from None
    if result.cut:
        cut = result.cut._replace(server_reachable=hands.client.reachable())
        result = replace(result, cut=cut)
        notices_s = FAR_END_NOTICES_S if cut.code == failures.SILENT else 0.0
        hands.spool.keep_ticket(hands.job, Ticket(*far, str(result.half_token), time.time() + notices_s))
    hands.spool.keep_record(hands.job, pack_run(result))


def pack_run(result: RunResult) -> bytes:
    """A run as one file: first the clock record with the self-check, then a record a call and a video stream."""
    head = Record(
        {
            **result.clock.meta,
            "self_check": asdict(result.self_check),
            "stopped": result.stopped,
            **({"cut": result.cut._asdict()} if result.cut else {}),
        },
        result.clock.columns,
    )
    return join_parts([head.serialize(), *(one.serialize() for one in result.calls + result.video)])
