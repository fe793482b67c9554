"""What holds for every test: none is told by how long it took, for the machines they run on stand still at times."""

from __future__ import annotations

from hypothesis import settings

settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")
