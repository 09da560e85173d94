"""One night, or several, from raw files to a report, on core alone."""

from narrow_beacon.reduce.run import Outcome, Progress, reduce_plan

__all__ = ["Outcome", "Progress", "reduce_plan"]
