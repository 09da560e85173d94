"""How much of a star's light is in doubt: pixels that were guessed, spikes that were left in, and
light that does not grow with radius as that of the other stars.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Flags, Floats, Plane, middles
from narrow_beacon.core.correct.apply import DEFECT, SPIKE
from narrow_beacon.core.measure.spread import Spread

_ODD_SIGMA = 5.0
_LEAST_STARS = 5
_STRETCH = 3
"""A pixel lies in so many rings of the set of radii, for stars of some 3 pixels' width."""
_MODEL_ERROR = 0.03
"""Of the light of a pixel, by which the profile itself may be wrong."""


def guessed_light(
    pixels: Plane,
    flags: Flags,
    x_px: Floats,
    y_px: Floats,
    own_adu: Floats,
    sky_adu_per_px: Floats,
    spread: Spread,
    radii_px: Floats,
) -> Floats:
    """Light in ADU that may be wrong, (stars, radii), because pixels of the aperture were repaired
    or hold a spike.

    A repaired pixel may be wrong by as much as interpolating the star's profile from the neighbours
    would be; a spike by all that stands above the profile.
    """
    result = np.zeros((x_px.size, radii_px.size))
    _add_guessed(
        pixels, flags, x_px, y_px, own_adu, sky_adu_per_px, spread.brightness, spread.step_px,
        np.asarray(radii_px, float), result,
    )  # fmt: skip
    return result


@njit(cache=True, nogil=True)
def _at(brightness, step, dx, dy):  # type: ignore[no-untyped-def]
    where = np.sqrt(dx * dx + dy * dy) / step
    k = min(int(where), brightness.size - 2)
    part = min(where - k, 1.0)
    return brightness[k] * (1.0 - part) + brightness[k + 1] * part


@njit(cache=True, nogil=True)
def _line_error(brightness, step, dx, dy, along_x, clean):  # type: ignore[no-untyped-def]
    """Error of interpolating the profile at (dx, dy) along a line; of a median where not clean."""
    ux, uy = (1.0, 0.0) if along_x else (0.0, 1.0)
    here = _at(brightness, step, dx, dy)
    near = _at(brightness, step, dx - ux, dy - uy) + _at(brightness, step, dx + ux, dy + uy)
    if not clean:
        return here - 0.5 * near
    far = _at(brightness, step, dx - 2 * ux, dy - 2 * uy)
    far += _at(brightness, step, dx + 2 * ux, dy + 2 * uy)
    return here - (4.0 * near - far) / 6.0


@njit(cache=True, nogil=True)
def _whole(line):  # type: ignore[no-untyped-def]
    """Whether the two pixels on either side of the middle of five are good ones."""
    return not (line[0] | line[1] | line[3] | line[4]) & DEFECT


@njit(cache=True, nogil=True)
def _add_guessed(pixels, flags, xs, ys, fluxes, skies, brightness, step, radii, result):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    largest = radii[radii.size - 1]
    for n in range(xs.size):
        flux = max(fluxes[n], 0.0)
        left, right = max(2, int(xs[n] - largest)), min(width - 2, int(xs[n] + largest) + 2)
        for y in range(max(2, int(ys[n] - largest)), min(height - 2, int(ys[n] + largest) + 2)):
            any_flag = np.uint8(0)
            for flag in flags[y, left : max(left, right)]:
                any_flag |= flag
            if not any_flag & (DEFECT | SPIKE):
                continue
            for x in range(left, right):
                flag = flags[y, x]
                if not flag & (DEFECT | SPIKE):
                    continue
                dx, dy = x - xs[n], y - ys[n]
                model = flux * _at(brightness, step, dx, dy)
                if flag & SPIKE:
                    wrong = abs(pixels[y, x] - skies[n] - model)
                else:
                    row = _whole(flags[y, x - 2 : x + 3])
                    column = _whole(flags[y - 2 : y + 3, x])
                    across = abs(_line_error(brightness, step, dx, dy, True, row))
                    up = abs(_line_error(brightness, step, dx, dy, False, column))
                    if row and column:
                        wrong = min(across, up)
                    elif row:
                        wrong = across
                    elif column:
                        wrong = up
                    else:
                        wrong = max(across, up)
                    wrong = flux * wrong + _MODEL_ERROR * model
                away = np.sqrt(dx * dx + dy * dy)
                for k in range(radii.size):
                    inside = min(max(radii[k] - away + 0.5, 0.0), 1.0)
                    result[n, k] += wrong * inside


def odd_growth(counts_adu: Floats, uncertainty_adu: Floats, clean: Bools) -> tuple[Floats, Floats]:
    """Light in ADU by which each aperture sum departs from the growth that the star's other rings
    ask for, (stars, radii), 0 where it does not; and the share of a clean star's light by which the
    aperture sums scatter beyond noise (radii).

    ``counts_adu`` and ``uncertainty_adu`` are (stars, radii). Rings count as odd beyond five times
    their own noise and the scatter of the ``clean`` stars in them; with fewer than five of those
    nothing can be said.
    """
    if clean.sum() < _LEAST_STARS:
        return np.zeros_like(counts_adu), np.zeros(counts_adu.shape[1])
    whole = counts_adu[clean, -1]
    share = np.ascontiguousarray(counts_adu[clean].T) / whole
    growth = middles(share)
    sigma2 = np.square(uncertainty_adu.T, dtype=float)
    noise = np.sqrt(np.maximum(sigma2[-1, clean] - sigma2[:, clean], 0.0)) / whole
    ring_of = np.diff(counts_adu.T, axis=0, prepend=0.0)
    variance = np.diff(sigma2, axis=0, prepend=0.0)
    steps = np.maximum(np.diff(growth, prepend=0.0), 1e-4)
    odd = _oddest(ring_of, steps, np.maximum(variance, 1e-6), clean)
    return np.where(np.isfinite(odd), np.abs(odd), 0.0), _beyond_noise(share, noise)


def _oddest(ring_of: Floats, steps: Floats, variance: Floats, clean: Bools) -> Floats:
    """Light in the stretch of rings that departs most from what all the others lead one to expect,
    up to each radius, (stars, radii); 0 where it is within its noise and what clean stars scatter
    by. ``ring_of`` and ``variance`` are (rings, stars).
    """
    rings, stars = ring_of.shape
    sums = np.zeros((4, rings + 1, stars))
    sums[0, 1:] = steps[:, None] ** 2 / variance
    sums[1, 1:] = ring_of * (steps[:, None] / variance)
    sums[2, 1:], sums[3, 1:] = ring_of, variance
    np.cumsum(sums, axis=1, out=sums)
    # Of each stretch (stretches, stars): precision, light by it, light and variance inside.
    precision, light, inside, noise2 = sums[:, _STRETCH:] - sums[:, :-_STRETCH]
    known = sums[0, -1] - precision
    flux = (sums[1, -1] - light) / known
    own = np.convolve(steps, np.ones(_STRETCH), "valid")[:, None]
    away = inside - flux * own
    noise = np.sqrt(noise2 + own**2 / known)
    beyond = _beyond_noise((away / flux)[:, clean], (noise / flux)[:, clean])
    times = np.abs(away) / np.sqrt(noise**2 + (beyond[:, None] * flux) ** 2)
    times = np.where(times > _ODD_SIGMA, times, 0.0)
    first_of = np.argmax(times, axis=0)
    at = np.flatnonzero(times.max(axis=0))
    found = np.zeros((stars, rings))
    ring, first_of = np.arange(rings), first_of[at]
    within = (ring >= first_of[:, None]) & (ring < first_of[:, None] + _STRETCH)
    usual = flux[first_of, at][:, None] * steps
    found[at] = np.cumsum(np.where(within, ring_of.T[at] - usual, 0.0), axis=1)
    return found


def _beyond_noise(values: Floats, noise: Floats) -> Floats:
    """Robust scatter (rows) of values (rows, stars) beyond their noise."""
    scatter = 1.4826 * middles(np.abs(values - middles(values)[:, None]))
    return np.sqrt(np.maximum(scatter**2 - middles(noise) ** 2, 0.0))
