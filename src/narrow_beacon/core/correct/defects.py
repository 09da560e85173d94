"""Defect maps: hot pixels and columns from a master dark, dead ones from a flat."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.apply import DEFECT
from narrow_beacon.core.correct.local_median import local_median
from narrow_beacon.core.kits import KitWord

HOT_Z = 80.0
"""Robust standard deviations of the master dark above the local median. A steady warm pixel is
better subtracted than guessed from its neighbours; for a master of some 15 frames this is where
its own dark noise becomes several times the read noise."""
SKY_Z = 10.0
"""The same where there is no dark and defects are seen on exposures: nothing takes them off there,
and a guess from the neighbours is better than a spike."""
_ISOLATED = 0.25
"""Share of a pixel's excess that any neighbour may have: of a star they have more."""
_LEAST_EXPOSURES = 3
_ALIKE, _USUAL = 1 / 3, 0.99
"""Of all pixels: those that are just their neighbours' middle only where values come in wide steps,
and those that are taken for good ones there."""
COLUMN_Z = 10.0
LEAST_RESPONSE = 0.6
MOST_RESPONSE = 1.6
_NEIGHBOURS = np.array([[1, 1, 1], [1, 0, 1], [1, 1, 1]], bool)
_MEDIAN_SCATTER = 1.2533
"""The scatter of the median of many normal values, over that of their mean: sqrt(pi / 2)."""


Mark = tuple[int, int, int, int]
"""Column and row of the first pixel, counted from 0 in the file, width and height."""


@dataclass(frozen=True)
class DefectRule:
    """What counts as a defect of a camera: hot and cold pixels beyond ``threshold`` robust standard
    deviations of the master dark, and parts of columns and rows that the observer marked.
    """

    threshold: float = HOT_Z
    marks: tuple[Mark, ...] = ()

    def mask(self, shape: tuple[int, int], first: tuple[int, int] = (0, 0)) -> Flags:
        """The marked pixels of an image (height, width) that begins at a column and row of the
        file.
        """
        marked = np.zeros(shape, np.uint8)
        for x, y, width, height in self.marks:
            left, low = x - first[0], y - first[1]
            rows = slice(max(low, 0), max(low + height, 0))
            marked[rows, max(left, 0) : max(left + width, 0)] = DEFECT
        return marked


USUAL_DEFECTS = DefectRule()


def defects_said(word: KitWord) -> DefectRule:
    """What counts as a defect by what is said of a kit; as usual where nothing is."""
    usual = USUAL_DEFECTS.threshold
    return DefectRule(
        usual if word.defect_threshold is None else word.defect_threshold, word.marks or ()
    )


def deviations(dark: Plane) -> Plane:
    """By how many robust standard deviations each pixel of a master dark departs from the local
    median.
    """
    excess = _excess(_finite(dark))
    excess /= np.float32(max(_scatter(excess[::3, ::3]), 1e-3))
    return excess


def _excess(whole: Plane) -> Plane:
    """A plane above the local median."""
    median = local_median(whole)
    return np.subtract(whole, median, out=median)


def _scatter(excess: Plane) -> float:
    """Robust scatter. Where most values are alike, since they come in steps that are wider than
    their noise, their middle says nothing: it is that of all but the largest there.
    """
    away = np.abs(excess).reshape(-1)
    scatter = 1.4826 * float(np.median(away))
    alike = int(np.count_nonzero(away == 0.0))
    if alike > _ALIKE * away.size:
        away.sort()
        usual = away[: max(int(_USUAL * away.size), 1)]
        scatter = max(scatter, float(np.sqrt(np.mean(np.square(usual, dtype=float)))))
        if scatter == 0.0 and alike < away.size:
            scatter = float(away[alike])
    return scatter


def _finite(plane: Plane) -> Plane:
    finite = np.isfinite(plane)
    return plane if finite.all() else np.where(finite, plane, np.float32(np.nanmedian(plane)))


def deviations_on_sky(sky: Plane) -> Plane:
    """``deviations`` of the median of several exposures (height, width), where no dark tells: 0
    where a neighbour departs too, as about a star.

    Stars of less than 1.5 px full width at half maximum, on the same pixels of all exposures, are
    taken for hot pixels.
    """
    whole = _finite(sky)
    z = deviations(whole)
    excess = _excess(whole)
    above = whole - scipy.ndimage.maximum_filter(whole, footprint=_NEIGHBOURS, mode="nearest")
    below = scipy.ndimage.minimum_filter(whole, footprint=_NEIGHBOURS, mode="nearest") - whole
    alone = np.maximum(above, below) > (1.0 - _ISOLATED) * np.abs(excess)
    return np.where(alone, z, np.float32(0.0))


def sky_threshold(rule: DefectRule) -> float:
    """The threshold of ``deviations_on_sky``: the observer's, or the usual one of exposures."""
    return SKY_Z if rule.threshold == HOT_Z else rule.threshold


def enough_exposures(count: int) -> bool:
    """Whether the median of so many exposures tells defects from what passes."""
    return count >= _LEAST_EXPOSURES


def find_defects(
    dark: Plane | None, flat: Plane | None, shape: tuple[int, int], hot_z: float = HOT_Z
) -> Flags:
    """Defect map (height, width) from a master dark in ADU and a flat relative to 1.

    A pixel is a defect where the dark's robust z-score against the local median is beyond
    ``hot_z``, where its column's median stands out by ``COLUMN_Z``, or where the flat's response
    relative to its neighbours is outside ``LEAST_RESPONSE`` to ``MOST_RESPONSE``.
    """
    defects = np.zeros(shape, np.uint8)
    if dark is not None:
        dark = _whole(dark, defects)
        z = deviations(dark)
        defects[(z > hot_z) | (z < -hot_z)] = DEFECT
        del z
        defects[:, _odd_columns(dark)] = DEFECT
        defects[_odd_columns(dark.T), :] = DEFECT
    if flat is not None:
        flat = _whole(flat, defects)
        response = local_median(flat)
        np.maximum(response, np.float32(1e-3), out=response)
        np.divide(flat, response, out=response)
        defects[(response < LEAST_RESPONSE) | (response > MOST_RESPONSE)] = DEFECT
    return defects


def _whole(plane: Plane, defects: Flags) -> Plane:
    """A plane with its undefined pixels at the median, and marked as defects."""
    undefined = ~np.isfinite(plane)
    if not undefined.any():
        return plane
    defects[undefined] = DEFECT
    return np.where(undefined, np.float32(np.median(plane[~undefined])), plane)


def _odd_columns(image: Plane) -> np.ndarray:
    rows = image[:: max(1, image.shape[0] // 300)]  # a few hundred values are enough
    medians = np.median(rows, axis=0)
    padded = np.pad(medians, 4, mode="edge")
    usual = np.median(np.lib.stride_tricks.sliding_window_view(padded, 9), axis=1)
    excess = medians - usual
    # Medians of whole numbers are mostly equal; noise alone moves them by this much.
    noise = 1.4826 * float(np.median(np.abs(rows - medians)))
    expected = _MEDIAN_SCATTER * noise / np.sqrt(len(rows))
    scatter = max(1.4826 * float(np.median(np.abs(excess))), expected, 1e-2)
    return np.flatnonzero(np.abs(excess) > COLUMN_Z * scatter)
