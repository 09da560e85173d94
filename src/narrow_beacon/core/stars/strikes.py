"""Cosmic rays that hit a star: single pixels above the star's own profile."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Flags, Floats, Plane
from narrow_beacon.core.correct.apply import SPIKE
from narrow_beacon.core.prefetch import fetch_ahead
from narrow_beacon.core.stars.profile import StarProfile

_REACH_FWHM = 1.7
_SIGMA = 6.0
_OF_MODEL, _OF_PEAK = 0.12, 0.02
_STEPS = 512
_SHARP = 0.6
_DRAWN_OUT = 1.25
"""Stars that are longer over their width than this are taken as drawn out, others as round."""
SHARP_PX = 2.0
"""Narrower stars need their profile integrated over each pixel, wherever in it they are."""
_PLACE_PX = 0.2
"""How far off a narrow star's centre may be."""
_NODES = np.array([-0.4530899, -0.2692347, 0.0, 0.2692347, 0.4530899])
_WEIGHTS = np.array([0.1184634, 0.2393143, 0.2844444, 0.2393143, 0.1184634])
"""Gauss–Legendre, five points on a pixel."""


def mark_strikes(
    pixels: Plane,
    flags: Flags,
    x_px: Floats,
    y_px: Floats,
    flux_adu: Floats,
    sky_adu: Floats,
    noise_adu: Floats,
    gain_e_per_adu: float,
    profile: StarProfile,
) -> None:
    """Flag pixels near stars, in place, that stand above the star's profile like a spike.

    Stars are given by 0-based position, all of their light, and the sky and noise around. A pixel
    counts where it exceeds the profile by six times its noise and by what the profile may be wrong
    (12% of itself and 2% of its peak), and where that excess is not shared by the pixels around, as
    a close neighbour's light would be.
    """
    if profile.hollow:
        return  # no profile to stand above: what is odd shows in how the light grows
    alpha = profile.fwhm_px / (2.0 * np.sqrt(2.0 ** (1.0 / profile.beta) - 1.0))
    drawn = profile.elongation > _DRAWN_OUT and np.isfinite(profile.angle_deg)
    longer = float(profile.elongation) if drawn else 1.0
    shape = _ellipse(longer, float(np.radians(profile.angle_deg)) if drawn else 0.0)
    kernel = _mark_sharp if profile.fwhm_px / np.sqrt(longer) < SHARP_PX else _mark
    # Neighbours on the image one after the other: their pixels are still in the cache.
    rows = np.argsort(y_px, kind="stable")
    kernel(
        pixels, flags, x_px[rows], y_px[rows], flux_adu[rows], sky_adu[rows], noise_adu[rows],
        gain_e_per_adu, alpha, profile.beta, _REACH_FWHM * profile.fwhm_px, shape,
    )  # fmt: skip


def _ellipse(longer: float, angle_rad: float) -> tuple[float, float, float, float]:
    """(a, b, c, longer) of a·dx² + b·dx·dy + c·dy²: the squared distance at which a round star of
    as much light is as bright, where stars are so many times longer than wide, in a direction from
    +x towards +y.
    """
    along, across = np.cos(angle_rad), np.sin(angle_rad)
    return (
        float(along**2 / longer + across**2 * longer),
        float(2.0 * along * across * (1.0 / longer - longer)),
        float(across**2 / longer + along**2 * longer), longer,
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _mark(pixels, flags, xs, ys, fluxes, skies, noises, gain, alpha, beta, reach, shape):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    span = int(np.ceil(reach))
    norm = (beta - 1.0) / (np.pi * alpha * alpha)
    # The profile by squared distance, so that each pixel costs a look-up.
    table = np.empty(_STEPS + 1)
    per_step = 2.0 * (span + 1.0) ** 2 * shape[3] / _STEPS
    for k in range(table.size):
        r2 = per_step * k
        v = 1.0 + r2 / alpha**2
        f = v**-beta
        laplacian = (4.0 * beta / alpha**2) * f / v * ((beta + 1.0) * (r2 / alpha**2) / v - 1.0)
        table[k] = norm * (f + laplacian / 24.0)
    finer = 1.0 / per_step
    for n in range(xs.size):
        x0, y0 = int(np.rint(xs[n])), int(np.rint(ys[n]))
        if x0 < span or y0 < span or x0 + span >= width or y0 + span >= height:
            continue
        if n + 1 < xs.size:
            fetch_ahead(pixels, xs[n + 1], ys[n + 1], span)
        flux, sky, dark = fluxes[n], skies[n], noises[n] ** 2
        peak = flux * table[0]
        least = _SIGMA * noises[n] + _OF_PEAK * peak
        for y in range(y0 - span + 1, y0 + span):
            for x in range(x0 - span + 1, x0 + span):
                light = pixels[y, x] - sky
                if light < least:
                    continue  # too little whatever the star gives it
                model = flux * _looked_up(table, finer, shape, x - xs[n], y - ys[n])
                e = light - model
                if e < least + _OF_MODEL * model:
                    continue
                if e < _SIGMA * np.sqrt(dark + model / gain) + _OF_MODEL * model + _OF_PEAK * peak:
                    continue
                around = -e
                for b in range(y - 1, y + 2):
                    for a in range(x - 1, x + 2):
                        share = _looked_up(table, finer, shape, a - xs[n], b - ys[n])
                        around += pixels[b, a] - sky - flux * share
                if e - around / 8.0 > _SHARP * e:
                    flags[y, x] |= SPIKE


@njit(cache=True, nogil=True, inline="always")
def _looked_up(table, finer, shape, dx, dy):  # type: ignore[no-untyped-def]
    """Share of a star's light in the pixel at (dx, dy) from its centre, from a table by the squared
    distance in steps.
    """
    fx, fxy, fy, _ = shape
    at = (dx * (fx * dx + fxy * dy) + fy * dy * dy) * finer
    k = min(int(at), table.size - 2)
    return table[k] + (at - k) * (table[k + 1] - table[k])


@njit(cache=True, nogil=True)
def _pixel_share(dx, dy, alpha, beta, norm, shape):  # type: ignore[no-untyped-def]
    """Share of a star's light in the pixel at (dx, dy) from its centre."""
    total = 0.0
    fx, fxy, fy, _ = shape
    for j in range(5):
        v = dy + _NODES[j]
        for i in range(5):
            u = dx + _NODES[i]
            r2 = u * (fx * u + fxy * v) + fy * v * v
            total += _WEIGHTS[i] * _WEIGHTS[j] * (1.0 + r2 / alpha**2) ** -beta
    return norm * total


@njit(cache=True, nogil=True)
def _mark_sharp(pixels, flags, xs, ys, fluxes, skies, noises, gain, alpha, beta, reach, shape):  # type: ignore[no-untyped-def]
    """The same for stars narrower than two pixels: a pixel counts where it exceeds the most that
    the profile can give it, wherever within its centre's error the star is.
    """
    height, width = pixels.shape
    span = max(2, int(np.ceil(reach)))
    norm = (beta - 1.0) / (np.pi * alpha * alpha)
    shifts = np.array([[0.0, 0.0], [1.0, 0.0], [-1.0, 0.0], [0.0, 1.0], [0.0, -1.0]]) * _PLACE_PX
    for n in range(xs.size):
        x0, y0 = int(np.rint(xs[n])), int(np.rint(ys[n]))
        if x0 < span or y0 < span or x0 + span >= width or y0 + span >= height:
            continue
        peak = fluxes[n] * _pixel_share(x0 - xs[n], y0 - ys[n], alpha, beta, norm, shape)
        for y in range(y0 - span, y0 + span + 1):
            for x in range(x0 - span, x0 + span + 1):
                most = 0.0
                for k in range(shifts.shape[0]):
                    dx, dy = x - xs[n] + shifts[k, 0], y - ys[n] + shifts[k, 1]
                    most = max(most, fluxes[n] * _pixel_share(dx, dy, alpha, beta, norm, shape))
                excess = pixels[y, x] - skies[n] - most
                noise = np.sqrt(noises[n] ** 2 + most / gain)
                if excess > _SIGMA * noise + 2.0 * _OF_MODEL * most + 2.0 * _OF_PEAK * peak:
                    flags[y, x] |= SPIKE
