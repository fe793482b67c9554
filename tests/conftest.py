"""What holds for every test.

None is told by how long it took, for the machines they run on stand still at times. What is tried at random is the
same at every run; set ``EXPLORE=1`` to try what was not tried before.
"""

from __future__ import annotations

import os

from hypothesis import settings

from tarnfell.store import db as database
from tarnfell.work.placing import presence
from tests import new_data
from tests.told import told_as_before

__all__ = ["told_as_before"]

settings.register_profile("ours", deadline=None, derandomize="EXPLORE" not in os.environ)
settings.load_profile("ours")

database.migrate = new_data.migrate

ONLINE_WITHIN_US = presence.ONLINE_WITHIN_US
"""As it is shipped."""
# A probe that was heard at the beginning of a test is online to its end.
presence.ONLINE_WITHIN_US = 3_600 * 1_000_000
