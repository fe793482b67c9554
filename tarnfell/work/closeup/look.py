"""A look at packets: what it needs of a call as of a video stream."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar, TypeVar

from tarnfell.store.sites import Site
from tarnfell.work.answers import Question

T = TypeVar("T")


class Look(Question[T]):
    """Something to be judged packet by packet, and how."""

    site: Site
    at_once: ClassVar[int]
    """Packets that are judged within about 40 ms (benchmarks/closeups.py)."""

    @property
    @abstractmethod
    def packets(self) -> int:
        """There are to judge, both ways."""

    @property
    def owner(self) -> dict[str, int]:
        return {"site_id": self.site.id}

    @property
    def is_long(self) -> bool:
        return self.packets > self.at_once
