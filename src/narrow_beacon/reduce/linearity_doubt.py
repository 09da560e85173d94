"""Remarks on cameras, or catalogues, by which bright stars and faint ones do not agree."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.core.arrays import middle
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.regression import fit_line
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.curves import FilterCurve

_SURE = 5.0
_LEAST_STARS = 8
_LEAST_RANGE_MAG, _BEYOND_MAG = 2.5, 0.5
_LEAST_MAG, _LEAST_MATTERS_MAG = 0.003, 0.005
"""Of the slope a magnitude, and of what it makes of the target's."""


def linearity_remarks(curves: Sequence[FilterCurve], stars: StarTable) -> list[Remark]:
    """Words where the field's stars, freed of their colours, measure the fainter or the brighter
    the brighter they are, and the target is not as bright as its comparison stars at all times.
    """
    return [remark for curve in curves if (remark := _doubt(curve, stars)) is not None]


def _doubt(curve: FilterCurve, stars: StarTable) -> Remark | None:
    terms = curve.terms
    if terms is None or terms.line is None or terms.stars is None or terms.sigma is None:
        return None
    target = curve.target.magnitude[np.isfinite(curve.target.magnitude)]
    band = stars.bands[terms.band]
    beside = band.magnitude[list(curve.cast.comparison)]
    if not target.size:
        return None
    # By stars as bright as these: what is true of much fainter ones says little of them.
    both = np.concatenate([target, beside])
    reach = max(_BEYOND_MAG, 0.5 * (_LEAST_RANGE_MAG - np.ptp(both)))
    magnitudes = band.magnitude[terms.stars]
    near = terms.line.used & (
        np.abs(magnitudes - np.clip(magnitudes, both.min(), both.max())) < reach
    )
    known, unsure = magnitudes[near], band.uncertainty[terms.stars[near]]
    if near.sum() < _LEAST_STARS:
        return None
    # An error of the catalogue is in its magnitude and in what that is beyond the measured one.
    line = fit_line(known, terms.line.residual[near], unsure, terms.sigma[near], unsure**2)
    if line is None or abs(line.slope) < max(_LEAST_MAG, _SURE * line.slope_uncertainty):
        return None
    usual = middle(beside)
    away = target[np.argmax(np.abs(target - usual))] - usual
    off = abs(line.slope * away)
    if off < _LEAST_MATTERS_MAG:
        return None
    side = "fainter" if line.slope > 0 else "brighter"
    return Remark(
        "measure",
        f"{counted(int(line.used.sum()), 'star')} of {known[line.used].min():.1f} to "
        f"{known[line.used].max():.1f} mag measure {1000 * abs(line.slope):.0f} ± "
        f"{1000 * line.slope_uncertainty:.0f} mmag {side} for every magnitude by which they are "
        "brighter: the camera does not count bright light as it does faint, or the catalogue is "
        "not on one scale",
        curve.filter,
        f"up to {1000 * off:.0f} mmag where the target is {abs(away):.1f} mag "
        f"{'fainter' if away > 0 else 'brighter'} than its comparison stars",
        "choose comparison stars of the target's brightness; where it is the camera, a lower "
        "linear limit or shorter exposures",
    )  # fmt: skip
