"""The censuses of many exposures in one filter, as arrays over exposures, stars and radii."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.flags import SPOILED
from narrow_beacon.core.measure.noise import POGSON

DOUBTFUL_SIGMA, DOUBTFUL_MAG = 1.5, 0.002
"""A magnitude is doubtful where it may be off by more than so many of its uncertainties, and by
more than so much."""
BY_STAR = ("counts_adu", "uncertainty_adu", "flag_bits", "doubt_adu", "neighbour_adu")
"""What a FilterCensus holds by star and radius."""


@dataclass(frozen=True)
class FilterCensus:
    """Stars in one filter: ``rows`` (stars) of the catalogue, ``counts_adu`` and
    ``uncertainty_adu`` (exposures, stars, radii), ``flag_bits`` likewise the StarFlag bits of an
    aperture, ``radii_px`` (exposures, radii), ``exposure_s`` (exposures). NaN where a star was not
    measured.
    ``doubt_adu`` and ``neighbour_adu`` (exposures, stars, radii) are the light that may be wrong
    and the light of others, ``noise`` (exposures, 2) the camera's gain in e⁻/ADU and how many times
    noisier the sky is than the model. Where stars are held at some of the radii only, ``steps``
    says at which; a radius goes by its place in ``radii_px`` all the same.
    """

    rows: Ints
    exposure_s: Floats
    radii_px: Floats
    counts_adu: Floats
    uncertainty_adu: Floats
    flag_bits: Ints
    doubt_adu: Floats
    neighbour_adu: Floats
    noise: Floats
    steps: tuple[int, ...] = ()

    @classmethod
    def of(cls, censuses: Sequence[ExposureCensus], exposure_s: Sequence[float]) -> FilterCensus:
        """Collect exposures of one filter, in order of time."""
        rows = np.unique(np.concatenate([census.rows for census in censuses]))
        places = [np.searchsorted(rows, census.rows) for census in censuses]

        radii = np.stack([census.radii_px for census in censuses])

        def gather(name: str, kind: type = np.float32) -> Floats:
            whole: Floats = np.full((len(censuses), rows.size, radii.shape[1]), np.nan, kind)
            for index, (census, at) in enumerate(zip(censuses, places, strict=True)):
                whole[index, at] = getattr(census, name)
            return whole

        bits = np.zeros((len(censuses), rows.size, radii.shape[1]), np.uint16)
        for index, (census, at) in enumerate(zip(censuses, places, strict=True)):
            bits[index, at] = census.bits_by_radius()
        return cls(
            rows, np.asarray(exposure_s, float), radii, gather("counts_adu", np.float64),
            gather("uncertainty_adu"), bits, gather("doubt_adu"),
            gather("neighbour_adu"), np.stack([census.noise for census in censuses]),
        )  # fmt: skip

    def column(self, row: int) -> int | None:
        """The position of a catalogue row among the stars, or None."""
        at = int(np.searchsorted(self.rows, row))
        return at if at < self.rows.size and self.rows[at] == row else None

    def at(self, name: str, step: int) -> np.ndarray:
        """One of ``BY_STAR`` (exposures, stars) at a radius. Raises ValueError where stars are not
        held at it.
        """
        place = self.steps.index(step) if self.steps else step
        values: np.ndarray = getattr(self, name)[:, :, place]
        return values

    def magnitudes(self, step: int) -> tuple[Floats, Floats]:
        """Instrumental magnitudes −2.5 log₁₀(counts / s) and uncertainties (exposures, stars)."""
        counts = self.at("counts_adu", step)
        with np.errstate(invalid="ignore", divide="ignore"):
            good = np.where(counts > 0, counts, np.nan)
            magnitude = -2.5 * np.log10(good / self.exposure_s[:, None])
            uncertainty = POGSON * self.at("uncertainty_adu", step) / good
        return magnitude, uncertainty

    def flags(self, step: int) -> Ints:
        """StarFlag bits (exposures, stars) at a radius; 0 where a star was not measured."""
        return self.at("flag_bits", step)

    def doubts(self, step: int) -> tuple[Floats, Floats]:
        """How much each magnitude may be off by what was guessed, and how much brighter it is for
        the light of others, in mag (exposures, stars); 0 where there is nothing to doubt.
        """
        with np.errstate(invalid="ignore", divide="ignore"):
            counts = self.at("counts_adu", step)
            good = np.where(counts > 0, counts, np.nan)
            guessed = POGSON * self.at("doubt_adu", step) / good
            others = POGSON * self.at("neighbour_adu", step) / good
        return np.nan_to_num(guessed), np.nan_to_num(others)

    def usable(self, step: int) -> Bools:
        """Where a star's light was measured, nothing spoils it and less of it is in doubt than its
        noise (exposures, stars).
        """
        counts = self.at("counts_adu", step)
        with np.errstate(invalid="ignore", divide="ignore"):
            share = POGSON / np.where(counts > 0, counts, np.nan)
            guessed = self.at("doubt_adu", step) * share
            most = np.fmax(
                DOUBTFUL_SIGMA * (self.at("uncertainty_adu", step) * share), DOUBTFUL_MAG
            )
        # Of a star without light nothing that was guessed can be told.
        sure = ~(guessed > most)
        return np.isfinite(counts) & sure & ((self.flags(step) & int(SPOILED)) == 0)

    def take(self, exposures: Ints) -> FilterCensus:
        """Some of the exposures only."""
        by_exposure: dict[str, Any] = {
            f.name: getattr(self, f.name)[exposures]
            for f in fields(self)
            if f.name not in ("rows", "steps")
        }
        return replace(self, **by_exposure)

    def at_radius(self, step: int, columns: Ints) -> FilterCensus:
        """Some of the stars, by their places in it, at one radius alone."""
        radius = self.radii_px[:, step : step + 1]
        few: dict[str, Any] = {
            # In one order in memory, so that sums are the same bit for bit wherever it came from.
            name: np.ascontiguousarray(self.at(name, step)[:, columns])[:, :, None]
            for name in BY_STAR
        }
        return replace(self, rows=self.rows[columns], radii_px=radius, steps=(), **few)

    def stars_only(self, rows: Ints) -> FilterCensus:
        """Some of the stars only: catalogue rows in ascending order, those that were measured."""
        at = np.flatnonzero(np.isin(self.rows, rows))
        # In one order in memory, so that sums are the same bit for bit wherever they came from.
        few: dict[str, Any] = {
            name: np.ascontiguousarray(getattr(self, name)[:, at]) for name in BY_STAR
        }
        return replace(self, rows=self.rows[at], **few)
