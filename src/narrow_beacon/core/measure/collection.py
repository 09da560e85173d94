"""The censuses of many exposures in one filter, as arrays over exposures, stars and radii."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import SPOILED, ExposureCensus

_POGSON = 2.5 / np.log(10.0)


@dataclass(frozen=True)
class FilterCensus:
    """Stars in one filter: ``rows`` (stars) of the catalogue, ``counts_adu`` and
    ``uncertainty_adu`` (exposures, stars, radii), ``near_px`` (exposures, stars, flags),
    ``radii_px`` (exposures, radii), ``exposure_s`` (exposures). NaN where a star was not measured.
    """

    rows: Ints
    exposure_s: Floats
    radii_px: Floats
    counts_adu: Floats
    uncertainty_adu: Floats
    near_px: Floats

    @classmethod
    def of(cls, censuses: Sequence[ExposureCensus], exposure_s: Sequence[float]) -> FilterCensus:
        """Collect exposures of one filter, in order of time."""
        rows = np.unique(np.concatenate([census.rows for census in censuses]))
        shape = (len(censuses), rows.size)
        steps, bits = censuses[0].radii_px.size, censuses[0].near_px.shape[1]
        counts = np.full((*shape, steps), np.nan)
        uncertainty = np.full((*shape, steps), np.nan, np.float32)
        near = np.full((*shape, bits), np.nan, np.float32)
        for index, census in enumerate(censuses):
            at = np.searchsorted(rows, census.rows)
            counts[index, at] = census.counts_adu
            uncertainty[index, at] = census.uncertainty_adu
            near[index, at] = census.near_px
        radii = np.stack([census.radii_px for census in censuses])
        return cls(rows, np.asarray(exposure_s, float), radii, counts, uncertainty, near)

    def column(self, row: int) -> int | None:
        """The position of a catalogue row among the stars, or None."""
        at = int(np.searchsorted(self.rows, row))
        return at if at < self.rows.size and self.rows[at] == row else None

    def magnitudes(self, step: int) -> tuple[Floats, Floats]:
        """Instrumental magnitudes −2.5 log₁₀(counts / s) and uncertainties (exposures, stars)."""
        counts = self.counts_adu[:, :, step]
        with np.errstate(invalid="ignore", divide="ignore"):
            good = np.where(counts > 0, counts, np.nan)
            magnitude = -2.5 * np.log10(good / self.exposure_s[:, None])
            uncertainty = _POGSON * self.uncertainty_adu[:, :, step] / good
        return magnitude, uncertainty

    def flags(self, step: int) -> Ints:
        """StarFlag bits (exposures, stars) at a radius; 0 where a star was not measured."""
        bits = 1 << np.arange(self.near_px.shape[2])
        with np.errstate(invalid="ignore"):
            inside = self.near_px < self.radii_px[:, step, None, None]
        return (inside * bits).sum(axis=2)

    def usable(self, step: int) -> np.ndarray:
        """Where a star has a magnitude and no flag that spoils it (exposures, stars)."""
        measured = np.nan_to_num(self.counts_adu[:, :, step]) > 0
        return measured & ((self.flags(step) & int(SPOILED)) == 0)

    def take(self, exposures: Ints) -> FilterCensus:
        """Some of the exposures only."""
        return FilterCensus(
            self.rows,
            self.exposure_s[exposures],
            self.radii_px[exposures],
            self.counts_adu[exposures],
            self.uncertainty_adu[exposures],
            self.near_px[exposures],
        )

    def stars_only(self, rows: Ints) -> FilterCensus:
        """Some of the stars only: catalogue rows in ascending order, those that were measured."""
        at = np.flatnonzero(np.isin(self.rows, rows))
        return FilterCensus(
            self.rows[at],
            self.exposure_s,
            self.radii_px,
            # In one order in memory, so that sums are the same bit for bit wherever they came from.
            np.ascontiguousarray(self.counts_adu[:, at]),
            np.ascontiguousarray(self.uncertainty_adu[:, at]),
            np.ascontiguousarray(self.near_px[:, at]),
        )
