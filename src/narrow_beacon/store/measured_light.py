"""What was measured of stars, read from the tables of a campaign's censuses."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.reduce.light import FilterLight, StarsSeen
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.store.census_columns import CensusTable


def light_in(table: CensusTable, exposures: Ints) -> FilterLight:
    """That of some of a table's exposures, by their places in it."""

    def read(places: Ints, rows: Ints, steps: tuple[int, ...]) -> FilterCensus:
        return table.of_stars(rows, places, steps)

    return FilterLight(exposures, table.measured_rows(exposures), table.radii, read)


class MeasuredInTables:
    """Exposures whose censuses are in tables, each by its table and its place in that."""

    def __init__(
        self, results: Sequence[ExposureResult], places: Mapping[int, tuple[CensusTable, int]]
    ) -> None:
        self.results, self._places = results, places

    def census(self, index: int) -> ExposureCensus | None:
        table, place = self._places[index]
        return table.exposure(place)

    def measured(self, index: int) -> bool:
        return index in self._places

    def noise_ratio(self, index: int) -> float:
        table, place = self._places[index]
        return float(table.noise_ratios[place])

    def light(self, indices: Sequence[int], exposure_s: Sequence[float]) -> FilterLight:
        return light_in(*self._of(indices))

    def seen(self, indices: Sequence[int], step: int) -> StarsSeen:
        table, places = self._of(indices)
        one = table.at_radius(step, places)
        where = (table.scalar(name, places) for name in ("x_px", "y_px"))
        return StarsSeen(one.counts_adu[:, :, 0], one.uncertainty_adu[:, :, 0], *where)

    def where(self, row: int, indices: Sequence[int]) -> tuple[Floats, Floats]:
        table, places = self._of(indices)
        if row not in table.rows:
            return np.full(places.size, np.nan), np.full(places.size, np.nan)
        x, y = (table.scalar(name, places, np.array([row]))[:, 0] for name in ("x_px", "y_px"))
        return x, y

    def _of(self, indices: Sequence[int]) -> tuple[CensusTable, Ints]:
        """The table of exposures of one filter, and their places in it."""
        return self._places[indices[0]][0], np.array([self._places[index][1] for index in indices])
