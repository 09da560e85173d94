"""The field's stars by colour and magnitude: which filters make the colour, and the picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.bands import in_order
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.colour_magnitude import (
    ColourMagnitude,
    FilterField,
    colour_magnitude,
)
from narrow_beacon.reduce.curves import FilterCurve

_INK, _QUIET, _AMBER = "#26231d", "#8d8677", "#b8690a"
_SURE_MAG = 0.1


@dataclass(frozen=True)
class FieldPicture:
    """Stars by colour and magnitude, and the names of the filters."""

    stars: ColourMagnitude
    bluer: str
    redder: str


def field_picture(curves: Sequence[FilterCurve], stars: StarTable) -> FieldPicture | None:
    """The first two filters in order of wavelength whose stars were looked at; None without."""
    known = {curve.band: curve for curve in curves if curve.field is not None}
    pair = [known[band] for band in in_order(tuple(known))][:2]
    if len(pair) < 2:
        return None
    bluer, redder = (_side(curve, stars) for curve in pair)
    return FieldPicture(colour_magnitude(bluer, redder), bluer.name, redder.name)


def _side(curve: FilterCurve, stars: StarTable) -> FilterField:
    assert curve.field is not None
    colour: Floats = np.empty(0)
    if curve.terms is not None:
        colour = curve.terms.index.of(stars)[list(curve.cast.comparison)]
    weight = np.where(np.isfinite(colour), curve.ensemble.weight[: colour.size], 0.0)
    usual = float("nan")
    if weight.sum() > 0:
        usual = float(np.sum(weight * np.nan_to_num(colour)) / weight.sum())
    return FilterField(curve.filter, curve.field, curve.terms, usual)


def draw_field(picture: FieldPicture, target: int, path: Path) -> None:
    """Draw the picture as SVG, the brightest at the top, the target apart."""
    import matplotlib
    from matplotlib.figure import Figure

    found = picture.stars
    sure = found.colour_uncertainty < _SURE_MAG
    with matplotlib.rc_context(
        {"svg.hashsalt": "narrow beacon", "font.size": 9, "text.color": _INK,
         "axes.edgecolor": _QUIET, "axes.linewidth": 0.6, "xtick.color": _QUIET,
         "ytick.color": _QUIET, "axes.labelcolor": _INK}
    ):  # fmt: skip
        figure = Figure(figsize=(5.4, 6.4))
        axes = figure.subplots()
        axes.errorbar(
            found.colour[sure], found.magnitude[sure], xerr=found.colour_uncertainty[sure],
            yerr=found.uncertainty[sure], fmt="o", ms=2.6, lw=0, elinewidth=0.5, color=_INK,
            ecolor=_QUIET,
        )  # fmt: skip
        at = np.flatnonzero(found.rows == target)
        axes.plot(found.colour[at], found.magnitude[at], "D", ms=7, mfc="none", mec=_AMBER, mew=1.4)
        axes.invert_yaxis()
        scale = "standard scale" if found.transformed else "the instrument's own scale"
        axes.set_xlabel(f"{picture.bluer} − {picture.redder} (mag), {scale}")
        axes.set_ylabel(f"{picture.redder} (mag)")
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
        figure.savefig(path, format="svg", metadata={"Date": None}, bbox_inches="tight")
