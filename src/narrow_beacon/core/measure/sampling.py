"""How much a measured brightness depends on where among the pixels a star falls.

On a sensor whose pixels see all of the light, only how it is shared out changes. A colour's own
pixels see a quarter of the light: which quarter it is decides how much is measured, the more so the
narrower the star. What is left over after the mean is noise that no averaging over pixels shows.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.measure.overlap import pixel_overlap
from narrow_beacon.core.measure.spread import Spread
from narrow_beacon.core.stars.profile import PIXEL_NODES, PIXEL_WEIGHTS

_PHASES = 6
_WIDTHS = (0.96, 1.0, 1.04)
"""Of the star, over what was measured: much hangs on the few percent by which that may be off."""


def sampling_scatter(
    spread: Spread, radii_px: Floats, pixel_px: float, sets: Sequence[tuple[float, float]]
) -> Floats:
    """Relative scatter of aperture sums (radii) over a star's place among pixels whose side is
    ``pixel_px``, over the distance from one to the next.

    ``sets`` are where the pixels of each set lie against the first's, in pixels, whose sums are
    added: two that interleave cancel most of one another's.
    """
    scatter = np.zeros((len(_WIDTHS), radii_px.size))
    for n, width in enumerate(_WIDTHS):
        sums = np.zeros((_PHASES * _PHASES, radii_px.size))
        step_px = width * spread.step_px
        for dx, dy in sets:
            sums += _sums(
                spread.brightness, step_px, radii_px, dx, dy, pixel_px * PIXEL_NODES, PIXEL_WEIGHTS
            )
        scatter[n] = np.std(sums, axis=0) / np.mean(sums, axis=0)
    return np.asarray(np.sqrt(np.mean(scatter**2, axis=0)))


@njit(cache=True, nogil=True)
def _sums(brightness, step, radii, dx, dy, nodes, weights):  # type: ignore[no-untyped-def]
    """Aperture sums (phases, radii) of a star of one ADU at places all over a pixel."""
    result = np.zeros((_PHASES * _PHASES, radii.size))
    reach = int(np.ceil(radii.max())) + 2
    for n in range(_PHASES * _PHASES):
        x0 = (n % _PHASES + 0.5) / _PHASES - 0.5 + dx
        y0 = (n // _PHASES + 0.5) / _PHASES - 0.5 + dy
        for j in range(-reach, reach + 1):
            for i in range(-reach, reach + 1):
                value = 0.0
                for b in range(3):
                    for a in range(3):
                        r = np.hypot(i - x0 + nodes[a], j - y0 + nodes[b]) / step
                        k = int(r)
                        if k + 1 < brightness.size:
                            between = brightness[k] + (r - k) * (brightness[k + 1] - brightness[k])
                            value += weights[a] * weights[b] * between
                for m in range(radii.size):
                    result[n, m] += value * pixel_overlap(i - x0, j - y0, radii[m])
    return result
