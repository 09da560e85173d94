"""One night, or several, from raw files to a report, on core alone."""

from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.run import reduce_plan
from narrow_beacon.reduce.walk import Progress

__all__ = ["Outcome", "Progress", "reduce_plan"]
