"""A check of the site's network: every cheap question, what comes back told as it comes."""

from __future__ import annotations

import socket

from tarnfell.probe.asking import ladder
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire.kinds.check import CheckArguments
from tarnfell.wire.kinds.fields import plain


def check(arguments: CheckArguments, hands: Hands) -> None:
    """A check that is stopped keeps what it has found out by then."""
    hands.begin()
    try:
        found = ladder.check(arguments, hands.go_on, lambda known: hands.tell({"result": plain(known)}))
    except socket.gaierror:
        raise WorkFailed(
            f"The far end’s name {arguments.far_host} cannot be looked up from here. Check the spelling and this "
            "machine’s name server."
        ) from None
    hands.spool.keep_outcome(hands.job, plain(found))
