"""How much of a star's light is in doubt: pixels that were guessed, spikes that were left in, and
light that does not grow with radius as that of the other stars.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Flags, Floats, Ints, Plane, middles
from narrow_beacon.core.correct.apply import DEFECT, SPIKE
from narrow_beacon.core.measure.spread import Spread
from narrow_beacon.core.prefetch import fetch_ahead

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
        if n + 1 < xs.size:
            fetch_ahead(flags, xs[n + 1], ys[n + 1], largest)
        left, right = max(2, int(xs[n] - largest)), min(width - 2, int(xs[n] + largest) + 2)
        for y in range(max(2, int(ys[n] - largest)), min(height - 2, int(ys[n] + largest) + 2)):
            any_flag = np.uint8(0)
            line = np.uint64(y)
            for x in range(np.uint64(left), np.uint64(max(left, right))):
                any_flag |= flags[line, x]
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
    known = np.flatnonzero(clean)
    rings, stars = counts_adu.shape[1], counts_adu.shape[0]
    share, noise = np.empty((rings, known.size)), np.empty((rings, known.size))
    ring_of, variance = np.empty((rings, stars)), np.empty((rings, stars))
    _in_rings(counts_adu, uncertainty_adu, known, share, noise, ring_of, variance)
    growth = middles(share)
    steps = np.maximum(np.diff(growth, prepend=0.0), 1e-4)
    odd = _oddest(ring_of, steps, variance, known)
    return np.where(np.isfinite(odd), np.abs(odd), 0.0), _beyond_noise(share, noise)


@njit(cache=True, nogil=True, error_model="numpy")
def _in_rings(counts, uncertainty, known, share, noise, ring_of, variance):  # type: ignore[no-untyped-def]
    """Fill in what each aperture holds of the light of stars that are ``known`` to be whole, and
    its noise (radii, known); and the light between radii and its variance (rings, stars).
    """
    last = counts.shape[1] - 1
    for n in range(counts.shape[0]):
        before = before2 = 0.0
        for k in range(last + 1):
            here, here2 = counts[n, k], uncertainty[n, k] * uncertainty[n, k]
            ring_of[k, n], variance[k, n] = here - before, max(here2 - before2, 1e-6)
            before, before2 = here, here2
    for i in range(known.size):
        n = known[i]
        whole, all2 = counts[n, last], uncertainty[n, last] * uncertainty[n, last]
        for k in range(last + 1):
            share[k, i] = counts[n, k] / whole
            noise[k, i] = np.sqrt(max(all2 - uncertainty[n, k] * uncertainty[n, k], 0.0)) / whole


def _oddest(ring_of: Floats, steps: Floats, variance: Floats, clean: Ints) -> Floats:
    """Light in the stretch of rings that departs most from what all the others lead one to expect,
    up to each radius, (stars, radii); 0 where it is within its noise and what ``clean`` stars
    scatter by. ``ring_of`` and ``variance`` are (rings, stars).
    """
    rings, stars = ring_of.shape
    away, noise, flux = (np.empty((rings - _STRETCH + 1, stars)) for _ in range(3))
    _depart(ring_of, steps, variance, away, noise, flux)
    light = flux[:, clean]
    beyond = _beyond_noise(away[:, clean] / light, noise[:, clean] / light)
    found = np.zeros((stars, rings))
    _gather_odd(ring_of, steps, away, noise, flux, beyond, found)
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def _depart(ring_of, steps, variance, away, noise, flux):  # type: ignore[no-untyped-def]
    """Of each stretch (stretches, stars): the star's light by all the other rings, how much the
    stretch departs from it, and the noise of that.
    """
    rings, stars = ring_of.shape
    precision, light = np.zeros(stars), np.zeros(stars)
    for k in range(rings):
        for n in range(stars):
            weight = steps[k] / variance[k, n]
            precision[n] += steps[k] * weight
            light[n] += ring_of[k, n] * weight
    for first in range(rings - _STRETCH + 1):
        own = 0.0
        for k in range(first, first + _STRETCH):
            own += steps[k]
        for n in range(stars):
            known, others, inside, noise2 = precision[n], light[n], 0.0, 0.0
            for k in range(first, first + _STRETCH):
                weight = steps[k] / variance[k, n]
                known -= steps[k] * weight
                others -= ring_of[k, n] * weight
                inside += ring_of[k, n]
                noise2 += variance[k, n]
            flux[first, n] = others / known
            away[first, n] = inside - flux[first, n] * own
            noise[first, n] = np.sqrt(noise2 + own * own / known)


@njit(cache=True, nogil=True, error_model="numpy")
def _gather_odd(ring_of, steps, away, noise, flux, beyond, found):  # type: ignore[no-untyped-def]
    """Fill in what the stretch that departs most has too much or too little, up to each radius."""
    stretches, stars = away.shape
    for n in range(stars):
        most, at = _ODD_SIGMA, -1
        for first in range(stretches):
            scatter = beyond[first] * flux[first, n]
            sigma = np.sqrt(noise[first, n] * noise[first, n] + scatter * scatter)
            times = abs(away[first, n]) / sigma
            if times > most:
                most, at = times, first
        if at < 0:
            continue
        light = 0.0
        for k in range(at, found.shape[1]):
            if k < at + _STRETCH:
                light += ring_of[k, n] - flux[at, n] * steps[k]
            found[n, k] = light


def _beyond_noise(values: Floats, noise: Floats) -> Floats:
    """Robust scatter (rows) of values (rows, stars) beyond their noise."""
    scatter = 1.4826 * middles(np.abs(values - middles(values)[:, None]))
    return np.sqrt(np.maximum(scatter**2 - middles(noise) ** 2, 0.0))
