"""Are two flats alike? Their ratio should be noise; what is left tells of moved dust."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane

_BIN = 8
_THRESHOLD = 6.0
_LEAST_BINS = 4
_LEAST_DEPTH = 0.003


@dataclass(frozen=True)
class FlatChange:
    """A patch in which two flats differ: centre (FITS pixels), size and greatest change."""

    x_px: float
    y_px: float
    size_px: float
    change: float


def compare_flats(first: Plane, second: Plane) -> list[FlatChange]:
    """Patches where ``first`` / ``second`` departs from its large-scale run, deepest first.

    The ratio is averaged over 8 × 8 pixels, its smooth part removed by a wide median, and
    connected bins beyond six robust standard deviations are reported.
    """
    from scipy.ndimage import label, median_filter  # slow to load, and seldom needed

    height, width = (size // _BIN * _BIN for size in first.shape)
    ratio = np.where(second > 0.05, first / np.maximum(second, 0.05), 1.0)[:height, :width]
    binned = np.median(
        ratio.reshape(height // _BIN, _BIN, width // _BIN, _BIN)
        .swapaxes(1, 2)
        .reshape(height // _BIN, width // _BIN, _BIN * _BIN),
        axis=2,
    )
    left = binned / median_filter(binned, size=25, mode="nearest") - 1.0
    scatter = max(1.4826 * float(np.median(np.abs(left))), 1e-6)
    limit = max(_THRESHOLD * scatter, _LEAST_DEPTH)
    changes = []
    for sign in (1.0, -1.0):
        patches, count = label(sign * left > limit, structure=np.ones((3, 3)))
        for number in range(1, count + 1):
            y, x = np.nonzero(patches == number)
            if y.size < _LEAST_BINS:
                continue
            depth = sign * float(np.max(sign * left[y, x]))
            changes.append(
                FlatChange(
                    x_px=float(x.mean() + 0.5) * _BIN + 0.5,
                    y_px=float(y.mean() + 0.5) * _BIN + 0.5,
                    size_px=float(np.sqrt(y.size * 4 / np.pi)) * _BIN,
                    change=depth,
                )
            )
    return sorted(changes, key=lambda change: -abs(change.change))
