"""Zero points of a census's exposures from its comparison stars, and what the other stars of the
field say of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from narrow_beacon.core.arrays import Ints, median_of_known
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.ensemble import LEAST_TESTED, Ensemble, Rates, solve_ensemble
from narrow_beacon.core.curve.steadiness import LEAST_POINTS
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.noise import POGSON

_LEAST_PRESENT = 0.9
_WITNESSES = 12
_MEDIAN_SCATTER = 1.2533
"""The scatter of the median of many normal values, over that of their mean: sqrt(pi / 2)."""


def ensemble_of(
    census: FilterCensus, step: int, stars: StarTable, band: str, rows: Sequence[int]
) -> Ensemble:
    """The ensemble of comparison stars ``rows`` at a radius.

    Too few to test one another are tested against other stars of the census, where it has any:
    what their common wandering shows goes into the zero points' uncertainty.
    """
    of = stars.bands[band]
    # Of all stars only those that take part: the others are many.
    few = census.at_radius(step, np.searchsorted(census.rows, sorted(rows)))
    columns = np.searchsorted(few.rows, rows)
    assert np.array_equal(few.rows[columns], rows)
    ensemble = solve_ensemble(
        rates_of(few, 0, columns),
        few.usable(0)[:, columns],
        of.magnitude[list(rows)],
        np.maximum(of.uncertainty[list(rows)], 1e-4),
    )
    if ensemble.tested:
        return ensemble
    wander = _wander(census, step, ensemble, rows)
    return ensemble if wander is None else replace(ensemble.widened(wander), tested=True)


def rates_of(census: FilterCensus, step: int, columns: Ints) -> Rates:
    """The light of some of a census's stars at a radius, with what changes of their neighbours'."""
    seconds = census.exposure_s[:, None]
    _, others = census.doubts(step)
    counts = census.at("counts_adu", step)[:, columns]
    # A neighbour's light that comes and goes with the seeing is noise that no count shows.
    change = others[:, columns] - np.median(others[:, columns], axis=0)
    sigma = np.hypot(
        census.at("uncertainty_adu", step)[:, columns], change * np.maximum(counts, 0.0) / POGSON
    )
    return Rates(counts / seconds, sigma / seconds, 1.0 / (census.noise[:, 0] * census.exposure_s))


def witness_rows(seen: FilterCensus, stars: StarTable, taken: Sequence[int]) -> list[int]:
    """Rows of the brightest stars of a census at one radius which are not ``taken``: these can tell
    whether too few comparison stars are steady.
    """
    idle = [row for row in seen.rows.tolist() if row not in taken]
    rows = np.array([row for row in idle if not stars.known_variable[row]], int)
    counts = seen.at("counts_adu", 0)[:, np.searchsorted(seen.rows, rows)]
    light = np.nan_to_num(counts).mean(axis=0)
    return sorted(rows[np.argsort(-light, kind="stable")][:_WITNESSES].tolist())


def _wander(
    census: FilterCensus, step: int, ensemble: Ensemble, rows: Sequence[int]
) -> float | None:
    """Scatter in mag of zero points that all other stars of the census share, beyond noise; None
    without such stars. The median of them hides what few of them do by themselves.
    """
    magnitude, uncertainty = census.magnitudes(step)
    shown = np.where(census.usable(step), magnitude, np.nan) + ensemble.zero_point[:, None]
    others = ~np.isin(census.rows, list(rows))
    enough = np.isfinite(shown).mean(axis=0) > _LEAST_PRESENT
    shown, sigma = shown[:, others & enough], uncertainty[:, others & enough]
    if shown.shape[1] < LEAST_TESTED or shown.shape[0] < LEAST_POINTS:
        return None
    left = shown - median_of_known(shown, axis=0)
    common = median_of_known(left, axis=1)
    noise = median_of_known(sigma, axis=1) / np.sqrt(shown.shape[1]) * _MEDIAN_SCATTER
    noise = np.hypot(noise, ensemble.zero_point_uncertainty)
    good = np.isfinite(common) & np.isfinite(noise)
    return float(np.sqrt(max(np.mean(common[good] ** 2) - np.mean(noise[good] ** 2), 0.0)))
