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


def _by_radius(census: ExposureCensus, name: str, own: Ints, steps: tuple[int, ...]) -> np.ndarray:
    """One of ``BY_STAR`` of some stars (places) of an exposure (stars, radii), at all radii or
    some.
    """
    if name != "flag_bits":
        values: np.ndarray = getattr(census, name)[own]
        return values[:, list(steps)] if steps else values
    if not steps:
        return census.bits_by_radius(own)
    return np.stack([census.flags_at(census.radii_px[step], own) for step in steps], axis=1)


def _kind_of(name: str) -> type:
    return np.float64 if name == "counts_adu" else np.float32


def measured_rows(censuses: Sequence[ExposureCensus]) -> Ints:
    """The stars that were measured on some exposures, rows of the catalogue, ascending."""
    return np.unique(np.concatenate([census.rows for census in censuses]))


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
    def of(
        cls, censuses: Sequence[ExposureCensus], exposure_s: Sequence[float] | Floats,
        rows: Ints | None = None, steps: tuple[int, ...] = (),
    ) -> FilterCensus:  # fmt: skip
        """Collect exposures of one filter, in order of time; all stars or some (``rows``,
        ascending) at all radii or some.
        """
        wanted = measured_rows(censuses) if rows is None else rows
        radii = np.stack([census.radii_px for census in censuses])
        depth = len(steps) or radii.shape[1]
        lists: dict[str, Any] = {
            name: np.zeros((len(censuses), wanted.size, depth), np.uint16)
            if name == "flag_bits"
            else np.full((len(censuses), wanted.size, depth), np.nan, _kind_of(name))
            for name in BY_STAR
        }
        nobody = np.empty(0, np.int64)
        for index, census in enumerate(censuses):
            place = np.searchsorted(wanted, census.rows)
            place[place == wanted.size] = 0
            own = np.flatnonzero(wanted[place] == census.rows) if wanted.size else nobody
            into = place[own]
            for name, whole in lists.items():
                whole[index, into] = _by_radius(census, name, own, steps)
        return cls(
            rows=wanted, exposure_s=np.asarray(exposure_s, float), radii_px=radii,
            noise=np.stack([census.noise for census in censuses]), steps=steps, **lists,
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

    def at_steps(self, steps: tuple[int, ...]) -> FilterCensus:
        """The same at some of the radii only."""
        few: dict[str, Any] = {
            name: np.stack([self.at(name, step) for step in steps], axis=2) for name in BY_STAR
        }
        return replace(self, steps=steps, **few)

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
