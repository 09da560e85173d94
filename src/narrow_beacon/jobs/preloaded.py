"""What the workers of this machine are forked from: all that a task loads, loaded once."""

from __future__ import annotations

import gc

from narrow_beacon.compiled import get_ready
from narrow_beacon.jobs import cluster
from narrow_beacon.reduce import walk

__all__ = ["cluster", "walk"]

get_ready()
# Whoever looks for garbage writes to every object that it looks at, and has its own copy then.
gc.collect()
gc.freeze()
