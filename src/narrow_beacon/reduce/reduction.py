"""A whole night by its plan."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from narrow_beacon.plan import Plan, read_plan
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.run import reduce_plan

if TYPE_CHECKING:
    from astropy.table import Table


@dataclass(frozen=True)
class Reduction:
    """What a reduction made: its output folder, and the tables in it."""

    folder: Path
    outcome: Outcome

    @cached_property
    def light_curve(self) -> Table:
        """A row per exposure, filter and target in order of time, with units and descriptions."""
        from astropy.table import Table

        return Table.read(self.folder / "light_curve.ecsv", format="ascii.ecsv")

    @cached_property
    def exposures(self) -> Table:
        """A row per file given: what it was taken for, what became of it and why."""
        from astropy.table import Table

        return Table.read(self.folder / "exposures.csv", format="ascii.csv")

    @cached_property
    def census(self) -> Table:
        """A row per star and exposure, sorted by star, then time; lists run over the radii."""
        import pyarrow.parquet as pq
        from astropy.table import Table

        table = pq.read_table(self.folder / "census.parquet")
        return Table({name: table[name].to_pylist() for name in table.column_names})

    @cached_property
    def provenance(self) -> dict[str, Any]:
        """Where every number comes from."""
        text = (self.folder / "provenance.json").read_text(encoding="utf-8")
        return dict(json.loads(text))

    @property
    def remarks(self) -> list[str]:
        """What the program assumed, doubts or could not do."""
        return [remark.words for remark in self.outcome.remarks]


def reduce_night(plan: Path | str | Plan, workers: int | None = None) -> Reduction:
    """Reduce a plan as ``./beacon reduce`` does, and read what it wrote.

    Parameters
    ----------
    plan
        A plan's file, or one that was read.
    workers
        How many processes; as many as the night is worth without it. In a script these need the
        usual ``if __name__ == "__main__"``.

    Raises
    ------
    PlanError
        Where the plan is unusable, with every mistake.
    """
    read = plan if isinstance(plan, Plan) else read_plan(Path(plan))
    outcome = reduce_plan(read, workers)
    return Reduction(outcome.plan.output, outcome)
