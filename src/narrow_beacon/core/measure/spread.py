"""How a star's light spreads on an exposure, wings and all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Flags, Floats, Plane
from narrow_beacon.core.correct.apply import SPOILED
from narrow_beacon.core.stars.detect import Detections
from narrow_beacon.core.stars.profile import StarProfile, total_light

REACH_FWHM = 14.0
_STEPS = 1024
_WING_FROM_FWHM, _WING_TO_FWHM, _WING_RINGS = 2.0, 8.0, 8
_WING_EDGES_FWHM = np.geomspace(_WING_FROM_FWHM, _WING_TO_FWHM, _WING_RINGS + 1)
_WING_STARS = 8
_HOLLOW_RINGS = 12
_WING_SIGNIFICANCE = 3.0
_LEAST_SPREAD = 0.2
"""Of its middle, where stars are so narrow that two orders do not do."""


@dataclass(frozen=True)
class Spread:
    """Surface brightness of a star of one ADU at ``step_px`` · (0, 1, 2, …) from its centre, as it
    falls on the sensor; ``seen`` as aperture sums see it, which pixels spread out further; its
    share of ``seen`` within any distance is in ``within``.
    """

    brightness: Floats
    step_px: float
    seen: Floats
    within: Floats

    def share(self, radius_px: float) -> float:
        """Share of the light within a radius of the centre."""
        return self._at(self.within, radius_px)

    def seen_at(self, radius_px: float) -> float:
        """Surface brightness at a distance from the centre, as aperture sums see it."""
        return self._at(self.seen, radius_px)

    def _at(self, values: Floats, radius_px: float) -> float:
        place = min(max(radius_px / self.step_px, 0.0), values.size - 1.0)
        at = min(int(place), values.size - 2)
        return float(values[at] + (place - at) * (values[at + 1] - values[at]))


def spread_of(
    profile: StarProfile, pixels: Plane, flags: Flags, stars: Detections, sky_adu: Floats,
    pixel_px: float = 1.0,
) -> Spread:  # fmt: skip
    """The profile that was fitted within two widths, and beyond it the wings as measured around the
    brightest stars, where they can be told from the sky.

    ``sky_adu`` is the sky at each star, ``pixel_px`` the side of a pixel that sees light, over the
    distance from one to the next.
    """
    fwhm = profile.fwhm_px
    step = REACH_FWHM * fwhm / _STEPS
    r = np.arange(_STEPS + 1) * step
    alpha = fwhm / (2.0 * np.sqrt(2.0 ** (1.0 / profile.beta) - 1.0))
    u = (r / alpha) ** 2
    brightness = (profile.beta - 1.0) / (np.pi * alpha**2) * (1.0 + u) ** -profile.beta
    # Spread once more by the pixel that sees it and by the one that an aperture cuts: to second
    # order a mean over a pixel is f + ∇²f / 24, of which ∇²f is that of a Moffat function.
    bend = 4.0 * profile.beta / alpha**2 * (pixel_px**2 + 1.0) / 24.0
    out = 1.0 + bend / (1.0 + u) * ((profile.beta + 1.0) * u / (1.0 + u) - 1.0)
    out = np.maximum(out, _LEAST_SPREAD)
    edges = fwhm * _WING_EDGES_FWHM
    if profile.hollow:  # no bell describes the inner part either
        edges = np.concatenate([fwhm * np.linspace(0.0, 1.9, _HOLLOW_RINGS), edges])
    bright = stars.take(np.arange(min(_WING_STARS, len(stars))))
    # Each star's light from its own pixels within two widths, of which the profile has a share; of
    # one out of focus or with spoiled pixels from what the filter took for it.
    core = _WING_FROM_FWHM * fwhm
    share = 1.0 - (1.0 + (core / alpha) ** 2) ** (1.0 - profile.beta)
    found = total_light(bright, profile)
    rings, errors = _wings(
        pixels, flags, bright.x_px, bright.y_px, found, sky_adu[: len(bright)], edges,
        0.0 if profile.hollow else core, share,
    )  # fmt: skip
    middle = 0.5 * (edges[1:] + edges[:-1])
    fitted = np.interp(middle, r, 0.5 * (1.0 + out) * brightness)  # as single pixels see it
    with np.errstate(invalid="ignore", divide="ignore"):
        sure = np.isfinite(rings) & (np.abs(rings - fitted) > _WING_SIGNIFICANCE * errors)
        factor = np.where(sure, np.clip(rings / fitted, 0.01, 30.0), 1.0)
    # From one ring to the next smoothly, and as at the last beyond it.
    first = 1.0 if edges[0] > 0 else factor[0]
    brightness *= np.interp(r, [0.9 * edges[0], *middle], [first, *factor])
    brightness, _ = _of_one_adu(brightness, r, profile.beta)
    return Spread(brightness, step, *_of_one_adu(brightness * out, r, profile.beta))


def _of_one_adu(brightness: Floats, r: Floats, beta: float) -> tuple[Floats, Floats]:
    """A surface brightness of one ADU in all, and its share within each distance."""
    within = np.zeros(r.size)
    _add_rings(brightness, r, within)
    # What lies beyond the last step still counts as the star's.
    total = within[-1] + brightness[-1] * np.pi * r[-1] ** 2 / max(beta - 1.0, 0.5)
    return brightness / total, within / total


@njit(cache=True, nogil=True)
def _add_rings(brightness, r, within):  # type: ignore[no-untyped-def]
    """Fill in the light within each distance."""
    for n in range(1, r.size):
        inner, outer = r[n - 1] * brightness[n - 1], r[n] * brightness[n]
        within[n] = within[n - 1] + np.pi * (inner + outer) * (r[n] - r[n - 1])


@njit(cache=True, nogil=True)
def _wings(pixels, flags, xs, ys, fluxes, skies, edges, core, share):  # type: ignore[no-untyped-def]
    """Median surface brightness per ADU of stars in rings, and its uncertainty over the stars.
    Their light is what lies within ``core``, ``share`` of it all, where that is whole, else
    ``fluxes``.
    """
    height, width = pixels.shape
    rings = edges.size - 1
    each = np.full((xs.size, rings), np.nan)
    reach = int(edges[rings]) + 1
    values = np.empty((rings, (2 * reach + 1) ** 2))
    squares, inside2 = edges**2, (core + 0.5) ** 2
    # The ring in which each whole number of r² is, from which it is at most a few more.
    ring = np.searchsorted(squares, np.arange(squares[rings] + 1.0), side="right") - 1
    for n in range(xs.size):
        counts = np.zeros(rings, np.int64)
        inner, spoiled = 0.0, core <= 0.0
        for y in range(max(0, int(ys[n]) - reach), min(height, int(ys[n]) + reach + 1)):
            for x in range(max(0, int(xs[n]) - reach), min(width, int(xs[n]) + reach + 1)):
                r2 = (x - xs[n]) ** 2 + (y - ys[n]) ** 2
                if r2 < inside2:
                    # A pixel on the edge counts by about how much of it is inside.
                    part = min(core + 0.5 - np.sqrt(r2), 1.0)
                    inner += part * (pixels[y, x] - skies[n])
                    spoiled = spoiled or (flags[y, x] & SPOILED) != 0
                if r2 < squares[0] or r2 >= squares[rings] or flags[y, x] & SPOILED:
                    continue
                k = max(ring[int(r2)], 0)
                while r2 >= squares[k + 1]:
                    k += 1
                values[k, counts[k]] = pixels[y, x] - skies[n]
                counts[k] += 1
        light = fluxes[n] if spoiled or inner <= 0.0 else inner / share
        for k in range(rings):
            if counts[k] > 8:
                each[n, k] = np.median(values[k, : counts[k]]) / light
    middle, error = np.full(rings, np.nan), np.full(rings, np.inf)
    for k in range(rings):
        good = each[:, k][np.isfinite(each[:, k])]
        if good.size >= 3:
            middle[k] = np.median(good)
            spread = 1.4826 * np.median(np.abs(good - middle[k]))
            error[k] = 1.2533 * spread / np.sqrt(good.size)
    return middle, error
