"""Name servers and services asked once, as a watch has it done again and again."""

from __future__ import annotations

from tarnfell.probe.asking.names import ask_each
from tarnfell.probe.asking.services import ask_all
from tarnfell.probe.surroundings import surroundings
from tarnfell.probe.works.work import Hands
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.services import ServicesArguments, ServicesResult


def services(arguments: ServicesArguments, hands: Hands) -> None:
    hands.begin()
    resolvers = arguments.resolvers or surroundings().name_servers
    names = tuple(ask_each(resolvers, arguments.names, hands.go_on))
    found = ServicesResult(names, ask_all(arguments.services, hands.go_on))
    hands.spool.keep_outcome(hands.job, plain(found))
