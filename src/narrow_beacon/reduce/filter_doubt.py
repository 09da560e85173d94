"""Remarks on exposures that were not taken in the filter that they say."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.core.bands import band_of_filter
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.regression import pair_slopes
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.curves import FilterCurve

_FAR = 0.4
"""Of the colour's coefficient: no camera with a filter of a band is that far from it."""
_SURE = 8.0
_NEAR, _NEARER = 0.2, 3.0
_LEAST_STARS = 6
BAND_AT_STAKE = "magnitudes are of another band than they say"
"""In what every remark here costs."""


def filter_remarks(curves: Sequence[FilterCurve], stars: StarTable) -> list[Remark]:
    """Words where a filter's name is that of a band and the stars are as bright as in another, or
    as in none.
    """
    return [remark for curve in curves if (remark := _doubt(curve, stars)) is not None]


def _doubt(curve: FilterCurve, stars: StarTable) -> Remark | None:
    terms = curve.terms
    if terms is None or terms.line is None or terms.stars is None:
        return None
    line = terms.line
    if band_of_filter(curve.filter) != terms.band:
        return None  # it stands for the band, which is said where it is chosen
    if abs(line.slope) < max(_FAR, _SURE * line.slope_uncertainty):
        return None
    others = _by_band(curve, stars)
    best = min(others, key=lambda name: abs(others[name]), default="")
    index = terms.index.words
    off = f"off by {_signed(line.slope)} mag for each mag of {index} in {terms.band}"
    words = f"the stars are not as bright as in {terms.band}: {off}"
    remedy = "say in Intake which filter it was, or which band stands for it"
    if best and abs(others[best]) < min(_NEAR, abs(line.slope) / _NEARER):
        words = (
            f"the stars are as bright as in {best}, not as in {terms.band}: {off}, by "
            f"{_signed(others[best])} in {best}"
        )
        remedy = f"if the filter was {best}, say so in Intake for these files"
    return Remark(
        "intake", words, curve.filter,
        f"{BAND_AT_STAKE}: {1000 * abs(line.slope):.0f} mmag between "
        "stars whose colours differ by 1 mag",
        remedy,
    )  # fmt: skip


def _signed(value: float) -> str:
    """Two digits with a sign, and none of nothing."""
    text = f"{value:+.2f}".replace("-", "−")
    return text[1:] if text[1:] == "0.00" else text


def _by_band(curve: FilterCurve, stars: StarTable) -> dict[str, float]:
    """The colour's coefficient that the filter would have against each other band."""
    terms = curve.terms
    assert terms is not None
    assert terms.line is not None
    assert terms.stars is not None
    rows = terms.stars[terms.line.used]
    colour = terms.index.of(stars)[rows]
    found = {}
    for name, band in stars.bands.items():
        if name == terms.band:
            continue
        apart = band.magnitude[rows] - stars.bands[terms.band].magnitude[rows]
        known = np.isfinite(apart) & np.isfinite(colour)
        if known.sum() >= _LEAST_STARS and np.ptp(colour[known]) > 0:
            slope = float(np.median(pair_slopes(colour[known], apart[known])))
            found[name] = terms.line.slope + slope
    return found
