"""What was measured of stars, for as many exposures, stars and radii as are asked for: all of it
can be more than memory holds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.collection import FilterCensus, measured_rows
from narrow_beacon.reduce.tasks import ExposureResult

_MOST_IN_A_BLOCK = 1_000_000
"""Stars on exposures: some 20 MB at one radius."""
Read = Callable[[Ints, Ints, tuple[int, ...]], FilterCensus]
"""Some exposures, by their places, of some stars (rows, ascending) at some radii, or all."""


@dataclass(frozen=True)
class FilterLight:
    """One filter's exposures in order of time, by their ``places`` in what they are read from; the
    stars that were measured on them (``rows`` of the catalogue, ascending) and at how many radii.
    """

    places: Ints
    rows: Ints
    radii: int
    read: Read

    def __len__(self) -> int:
        return self.places.size

    def take(self, exposures: Ints) -> FilterLight:
        """Some of the exposures only."""
        return replace(self, places=self.places[exposures])

    def at(self, step: int, rows: Iterable[int] | None = None) -> FilterCensus:
        """All stars, or some of them, at one radius."""
        return self.read(self.places, self.rows if rows is None else self._known(rows), (step,))

    def alone(self, step: int) -> FilterCensus:
        """All stars at one radius, which is the census's only one."""
        seen = self.at(step)
        return seen.at_radius(step, np.arange(seen.rows.size))

    def of_stars(self, rows: Iterable[int]) -> FilterCensus:
        """Some stars (rows), those that were measured, at all radii."""
        return self.read(self.places, self._known(rows), ())

    def blocks(self) -> list[Ints]:
        """The stars' rows, so many at a time that they fit into memory on all exposures."""
        each = max(1, _MOST_IN_A_BLOCK // max(1, self.places.size))
        return np.array_split(self.rows, max(1, -(-self.rows.size // each)))

    def _known(self, rows: Iterable[int]) -> Ints:
        some = np.array(sorted(set(rows)), np.int64)
        return some[np.isin(some, self.rows)]


def light_of(census: FilterCensus) -> FilterLight:
    """What is in memory already, at all radii."""

    def read(places: Ints, rows: Ints, steps: tuple[int, ...]) -> FilterCensus:
        some = census if places.size == census.exposure_s.size else census.take(places)
        some = some if rows.size == census.rows.size else some.stars_only(rows)
        return some.at_steps(steps) if steps else some

    count = census.exposure_s.size
    return FilterLight(np.arange(count), census.rows, census.radii_px.shape[1], read)


@dataclass(frozen=True)
class StarsSeen:
    """The stars on some exposures at one radius (exposures, stars): counts and uncertainties in
    ADU, and where they are on each; NaN where one was not measured.
    """

    counts_adu: Floats
    uncertainty_adu: Floats
    x_px: Floats
    y_px: Floats


class Measured(Protocol):
    """Measured exposures, by their index in the night."""

    @property
    def results(self) -> Sequence[ExposureResult]:
        """All that take part, in order of time; their censuses may be elsewhere."""

    def census(self, index: int) -> ExposureCensus | None:
        """All of one exposure."""

    def measured(self, index: int) -> bool:
        """Whether there is a census of an exposure."""

    def noise_ratio(self, index: int) -> float:
        """How many times noisier its sky is than the camera's constants say."""

    def light(self, indices: Sequence[int], exposure_s: Sequence[float]) -> FilterLight:
        """That of exposures of one filter, in order of time."""

    def seen(self, indices: Sequence[int], step: int) -> StarsSeen:
        """The stars on exposures of one filter at a radius."""

    def where(self, row: int, indices: Sequence[int]) -> tuple[Floats, Floats]:
        """Where a star is on exposures of one filter, x and y in pixels; NaN where it is not."""


class MeasuredHere:
    """Exposures whose results have their censuses; ``looked_at`` is called when those of many have
    been read.
    """

    def __init__(
        self, results: Sequence[ExposureResult], looked_at: Callable[[], None] = lambda: None
    ) -> None:
        self.results, self._looked_at = results, looked_at
        self._by_index = {result.index: result for result in results}

    def census(self, index: int) -> ExposureCensus | None:
        return self._by_index[index].census

    def measured(self, index: int) -> bool:
        return self._by_index[index].census is not None

    def noise_ratio(self, index: int) -> float:
        return float(self._of(index).noise[1])

    def light(self, indices: Sequence[int], exposure_s: Sequence[float]) -> FilterLight:
        censuses = [self._of(index) for index in indices]
        seconds = np.asarray(exposure_s, float)

        def read(places: Ints, rows: Ints, steps: tuple[int, ...]) -> FilterCensus:
            some = [censuses[place] for place in places.tolist()]
            found = FilterCensus.of(some, seconds[places], rows, steps)
            self._looked_at()
            return found

        radii = censuses[0].radii_px.size
        return FilterLight(np.arange(len(censuses)), measured_rows(censuses), radii, read)

    def seen(self, indices: Sequence[int], step: int) -> StarsSeen:
        censuses = [self._of(index) for index in indices]
        rows = measured_rows(censuses)
        found = StarsSeen(*(np.full((len(censuses), rows.size), np.nan) for _ in range(4)))
        for at, census in enumerate(censuses):
            own = np.searchsorted(rows, census.rows)
            found.counts_adu[at, own] = census.counts_adu[:, step]
            found.uncertainty_adu[at, own] = census.uncertainty_adu[:, step]
            found.x_px[at, own], found.y_px[at, own] = census.x_px, census.y_px
        self._looked_at()
        return found

    def where(self, row: int, indices: Sequence[int]) -> tuple[Floats, Floats]:
        found = np.full((2, len(indices)), np.nan)
        for place, index in enumerate(indices):
            census = self._of(index)
            at = np.flatnonzero(census.rows == row)
            if at.size:
                found[:, place] = census.x_px[at[0]], census.y_px[at[0]]
        return found[0], found[1]

    def _of(self, index: int) -> ExposureCensus:
        census = self._by_index[index].census
        assert census is not None
        return census
