"""Star width from a Moffat profile fitted to bright stars, pixel integration included.

The mean of a profile f over a pixel is f + ∇²f/24 to second order, which is within 1% for stars of
2.5 pixels and more; the Laplacian of a Moffat function is analytic. In narrower ones it is summed
over points of the pixel.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import ANY_ORDER, njit
from narrow_beacon.core.arrays import Flags, Floats, Ints, Plane, flat, middle
from narrow_beacon.core.correct.apply import DEFECT, SPOILED
from narrow_beacon.core.stars.detect import WIDE_PX, Detections

_MOST_STARS = 12
_LEAST_SNR = 25.0
_SAME_STAR_FWHM = 0.8
_MATTERS, _CLEAR_FWHM, _ENOUGH_ALONE = 0.01, 1.0, 5
"""A star stands alone where nothing of so much of its light is so far beyond what is fitted."""
_MOST_STEPS = 12
"""A star alone takes three or four."""
_NARROW_PX, _MOST_OFF_PX = 2.5, 0.7
"""Narrower stars have their centres sought with their width, so far at most from where they were
found."""
PIXEL_NODES = np.array([-0.3872983346207417, 0.0, 0.3872983346207417])
PIXEL_WEIGHTS = np.array([5.0, 8.0, 5.0]) / 18.0
"""Gauss–Legendre of order 3 on a pixel of width 1."""
_BROAD_BETA = 2.5
_HALF_LIGHT_FWHM = 0.677
"""Radius of half of the light of a Moffat profile with β = 2.5, in widths."""


@dataclass(frozen=True)
class Lights:
    """Places and light of stars on an image."""

    x_px: Floats
    y_px: Floats
    flux_adu: Floats


@dataclass(frozen=True)
class StarProfile:
    """Robust star profile of an exposure: width, Moffat β, elongation, and the stars behind it."""

    fwhm_px: float
    beta: float
    elongation: float
    stars: int
    hollow: bool = False
    """A ring of light, far out of focus: the width is that of a star with as much light within its
    half."""
    angle_deg: float = float("nan")
    """The direction in which stars are drawn out, from +x towards +y, 0 to 180."""


def _broad_profile(
    pixels: Plane, flags: Flags, stars: Detections, sky_adu: np.ndarray, guess_px: float
) -> StarProfile | None:
    """The width of stars that no bell describes, from the radius that holds half of their light."""
    reach = 2.2 * guess_px
    height, width = pixels.shape
    inside = (
        (stars.x_px > reach) & (stars.x_px < width - 1 - reach) & (stars.snr > _LEAST_SNR)
        & (stars.y_px > reach) & (stars.y_px < height - 1 - reach)
    )  # fmt: skip
    found = []
    used = []
    for at in np.flatnonzero(inside)[: 3 * _MOST_STARS]:
        half = _half_light(pixels, flags, stars.x_px[at], stars.y_px[at], sky_adu[at], reach)
        if half is not None:
            found.append((half, float(stars.elongation[at])))
            used.append(int(at))
    if not found:
        return None
    halves, elongations = np.array(found[:_MOST_STARS]).T
    half_px = middle(halves)
    return StarProfile(
        half_px / _HALF_LIGHT_FWHM, _BROAD_BETA, middle(elongations), len(halves), True,
        _common_angle(stars, np.array(used[:_MOST_STARS])),
    )  # fmt: skip


def _common_angle(stars: Detections, which: np.ndarray) -> float:
    """The direction of elongation that stars share, 0 to 180; round ones say little of it."""
    turn = np.exp(2j * np.radians(stars.angle_deg[which])) * (stars.elongation[which] - 1.0)
    return float(np.degrees(0.5 * np.angle(turn.sum())) % 180.0)


def _half_light(
    pixels: Plane, flags: Flags, x: float, y: float, sky_adu: float, reach: float
) -> float | None:
    """Radius that holds half of a star's light within ``reach``; None where pixels are flagged."""
    x0, y0 = int(x - reach), int(y - reach)
    size = int(2 * reach) + 2
    if np.any(flags[y0 : y0 + size, x0 : x0 + size] & SPOILED & ~DEFECT):
        return None
    yy, xx = np.mgrid[y0 : y0 + size, x0 : x0 + size]
    r = np.hypot(xx - x, yy - y)
    light = pixels[y0 : y0 + size, x0 : x0 + size] - sky_adu
    order = np.argsort(r, axis=None)
    within = r.ravel()[order] <= reach
    grown = np.cumsum(light.ravel()[order][within])
    if grown[-1] <= 0:
        return None
    return float(r.ravel()[order][within][np.searchsorted(grown, 0.5 * grown[-1])])


_SIMPSON = np.array([1.0, *[4.0, 2.0] * 149, 4.0, 1.0])
"""Weights of Simpson's rule, by whose thirds of a step a smooth function is summed to 1e-8."""


def total_light(stars: Detections, profile: StarProfile) -> Floats:
    """The whole light of stars that were found, in ADU, by what the filter takes for it."""
    return np.asarray(stars.flux_adu * _total_over_found(profile, stars.filter_sigma_px))


def _total_over_found(profile: StarProfile, filter_sigma_px: float) -> float:
    """Total light of a star of this profile over what a Gaussian filter takes for it."""
    alpha2 = profile.fwhm_px**2 / (4.0 * (2.0 ** (1.0 / profile.beta) - 1.0))
    # ∫ P·G dA over ∫ G² dA is the amplitude that is found; its light is that times 2πσ².
    found = _through_filter(float(alpha2), float(profile.beta), float(filter_sigma_px) ** 2)
    return float(1.0 / (found * 2.0 * np.pi))


@njit(cache=True, nogil=True)
def _through_filter(alpha2, beta, sigma2):  # type: ignore[no-untyped-def]
    """∫ P·G dA of a Moffat profile of unit light and a Gaussian of height 1, by Simpson's rule."""
    total, step = 0.0, 40.0 * sigma2 / (_SIMPSON.size - 1)
    for n in range(_SIMPSON.size):
        r2 = n * step
        total += _SIMPSON[n] * np.exp(-beta * np.log1p(r2 / alpha2) - 0.5 * r2 / sigma2)
    return total * step / 3.0 * (beta - 1.0) / (np.pi * alpha2)


def measure_profile(
    pixels: Plane,
    flags: Flags,
    stars: Detections,
    sky_adu: np.ndarray,
    guess_px: float,
    pixel_px: float = 1.0,
    others: Lights | None = None,
    guess_beta: float = 3.0,
) -> StarProfile | None:
    """Median Moffat width of the brightest stars without flagged pixels; None where no star fits.
    Stars that others stand beside are taken only where too few stand alone, and then without the
    pixels that are nearer to the other. ``others`` is all that shines on the image, where more is
    known of it than what was found.

    ``sky_adu`` is the sky at each star, ``guess_px`` and ``guess_beta`` a width and a β to start
    from, ``pixel_px`` the side of a pixel that sees light, over the distance from one to the next.
    """
    if guess_px >= WIDE_PX:
        return _broad_profile(pixels, flags, stars, sky_adu, guess_px)
    height, width = pixels.shape
    reach = min(max(math.ceil(2.2 * guess_px), 5), 25)
    inside = (
        (stars.x_px > reach + 1)
        & (stars.x_px < width - reach - 2)
        & (stars.y_px > reach + 1)
        & (stars.y_px < height - reach - 2)
        & (stars.snr > _LEAST_SNR)
    )
    chosen: Ints = np.flatnonzero(inside)[: 10 * _MOST_STARS]
    if chosen.size == 0:
        return None
    others = others or Lights(stars.x_px, stars.y_px, stars.flux_adu)
    chosen, beside = _alone(
        stars, chosen, others, _SAME_STAR_FWHM * guess_px, reach + _CLEAR_FWHM * guess_px
    )
    fits = _fit_moffats(
        pixels, flags, stars.x_px[chosen], stars.y_px[chosen], sky_adu[chosen],
        others.x_px[beside], others.y_px[beside], reach, guess_px, guess_beta, _MOST_STARS,
        pixel_px**2 / 24.0,
    )  # fmt: skip
    good = fits[:, 0] > 0
    if not good.any():
        return None
    elongations = stars.elongation[chosen[good]]
    return StarProfile(
        fwhm_px=middle(fits[good, 0]),
        beta=middle(fits[good, 1]),
        elongation=middle(elongations),
        stars=int(good.sum()),
        angle_deg=_common_angle(stars, chosen[good]),
    )


def _alone(
    stars: Detections, chosen: Ints, others: Lights, same_px: float, clear_px: float
) -> tuple[Ints, Ints]:
    """The first of the chosen stars that stand alone, and the light nearest to each; the first of
    all where too few do.
    """
    wanted, parts = 3 * _MOST_STARS, []
    found = 0
    for begin in range(0, chosen.size, wanted):
        some = chosen[begin : begin + wanted]
        gap, beside = _beside(stars, some, others, same_px)
        parts.append((some, beside, gap > clear_px))
        found += int(parts[-1][2].sum())
        if found >= wanted:
            break
    chosen, beside, alone = (np.concatenate(part) for part in zip(*parts, strict=True))
    if found < _ENOUGH_ALONE:
        alone[:] = True
    return chosen[alone][:wanted], beside[alone][:wanted]


def _beside(stars: Detections, chosen: Ints, others: Lights, same_px: float) -> tuple[Floats, Ints]:
    """How far the nearest light is that could matter to each chosen star, and which it is."""
    near = np.zeros(chosen.size, np.int64)
    squared = np.full(chosen.size, np.inf)
    _nearest_light(
        flat(stars.x_px[chosen]), flat(stars.y_px[chosen]), _MATTERS * flat(stars.flux_adu[chosen]),
        flat(others.x_px), flat(others.y_px), flat(others.flux_adu), same_px**2, near, squared,
    )  # fmt: skip
    return np.sqrt(squared), near


@njit(cache=True, nogil=True)
def _nearest_light(xs, ys, least, xo, yo, fluxes, same2, near, squared):  # type: ignore[no-untyped-def]
    for n in range(xs.size):
        for k in range(xo.size):
            d2 = (xs[n] - xo[k]) ** 2 + (ys[n] - yo[k]) ** 2
            if same2 <= d2 < squared[n] and fluxes[k] >= least[n]:
                squared[n], near[n] = d2, k


@njit(cache=True, nogil=True)
def _fit_moffats(  # type: ignore[no-untyped-def]
    pixels, flags, xs, ys, skies, xo, yo, reach, guess, guess_beta, most, blur
):  # fmt: skip
    """FWHM and β of each star, (stars, 2); zeros where the fit fails or pixels are flagged."""
    result = np.zeros((xs.size, 2))
    span = 2 * reach + 1
    dx, dy, data = np.empty(span * span), np.empty(span * span), np.empty(span * span)
    done = 0
    for n in range(xs.size):
        if done >= most:
            break
        x0 = int(np.rint(xs[n])) - reach
        y0 = int(np.rint(ys[n])) - reach
        used = 0
        clean = True
        for j in range(span):
            for i in range(span):
                d2 = (x0 + i - xs[n]) ** 2 + (y0 + j - ys[n]) ** 2
                if d2 > reach * reach:
                    continue
                if (x0 + i - xo[n]) ** 2 + (y0 + j - yo[n]) ** 2 < d2:
                    continue
                if flags[y0 + j, x0 + i] & SPOILED:
                    clean = False
                dx[used], dy[used] = x0 + i - xs[n], y0 + j - ys[n]
                data[used] = pixels[y0 + j, x0 + i] - skies[n]
                used += 1
        if not clean:
            continue
        fwhm, beta = _fit_one(dx[:used], dy[:used], data[:used], guess, guess_beta, blur)
        if 0.0 < fwhm < _NARROW_PX <= guess:
            fwhm, beta = _fit_one(dx[:used], dy[:used], data[:used], fwhm, beta, blur)
        if 0.8 < fwhm < 4.0 * reach:
            result[n, 0] = fwhm
            result[n, 1] = beta
            done += 1
    return result


@njit(cache=True, nogil=True)
def _wide(dx, dy, wanted, blur, shape, slopes):  # type: ignore[no-untyped-def]
    """Fill in the light of each pixel for a star of height 1, and how it changes with the
    logarithms of α and β, (2, pixels); ``wanted`` are α, β and the centre.
    """
    alpha, beta, x, y = wanted
    per_alpha2 = 1.0 / (alpha * alpha)
    bend = 4.0 * beta * per_alpha2 * blur
    for i in range(shape.size):
        u = ((dx[i] - x) ** 2 + (dy[i] - y) ** 2) * per_alpha2
        log = np.log(1.0 + u)
        point, by_v = np.exp(-beta * log), 1.0 / (1.0 + u)
        g = (beta + 1.0) * u * by_v
        w = bend * by_v * (g - 1.0)  # what the mean over the pixel adds
        whole = point + point * w
        shape[i] = whole
        slopes[0, i] = 2.0 * by_v * (beta * u * whole - point * (w + bend * g * by_v))
        slopes[1, i] = -beta * log * whole + point * (w + bend * beta * u * by_v * by_v)


@njit(cache=True, nogil=True)
def _narrow(dx, dy, wanted, blur, shape, slopes):  # type: ignore[no-untyped-def]
    """The same, (4, pixels), also by the centre: of a narrow star by points all over each pixel."""
    alpha, beta, x, y = wanted
    per_alpha2, side = 1.0 / (alpha * alpha), np.sqrt(24.0 * blur)
    for i in range(shape.size):
        light = by_alpha = by_beta = by_x = by_y = 0.0
        for k in range(PIXEL_NODES.size):
            for m in range(PIXEL_NODES.size):
                a, b = dx[i] + side * PIXEL_NODES[k] - x, dy[i] + side * PIXEL_NODES[m] - y
                u = (a * a + b * b) * per_alpha2
                log = np.log(1.0 + u)
                point = PIXEL_WEIGHTS[k] * PIXEL_WEIGHTS[m] * np.exp(-beta * log)
                steep = 2.0 * beta * point / (1.0 + u)
                light += point
                by_alpha += steep * u
                by_beta -= beta * log * point
                by_x += steep * a * per_alpha2
                by_y += steep * b * per_alpha2
        shape[i] = light
        slopes[0, i], slopes[1, i], slopes[2, i], slopes[3, i] = by_alpha, by_beta, by_x, by_y


@njit(cache=True, nogil=True, error_model="numpy", fastmath=ANY_ORDER)
def _fit_height(data, shape, slopes, left):  # type: ignore[no-untyped-def]
    """Best height for a shape by linear least squares, beside a pedestal; fills in what is left of
    the data, and takes off the slopes what these two can take up. The height and the squares left.
    """
    n = data.size
    sf = sff = sd = sfd = 0.0
    for i in range(n):
        sf += shape[i]
        sff += shape[i] * shape[i]
        sd += data[i]
        sfd += shape[i] * data[i]
    det = n * sff - sf * sf
    height, pedestal = (n * sfd - sf * sd) / det, (sff * sd - sf * sfd) / det
    cost = 0.0
    for i in range(n):
        left[i] = data[i] - height * shape[i] - pedestal
        cost += left[i] * left[i]
    for k in range(slopes.shape[0]):
        s = sg = 0.0
        for i in range(n):
            s += slopes[k, i]
            sg += slopes[k, i] * shape[i]
        level, share = (sff * s - sf * sg) / det, (n * sg - sf * s) / det
        for i in range(n):
            slopes[k, i] = height * (slopes[k, i] - level - share * shape[i])
    return height, cost


@njit(cache=True, nogil=True, error_model="numpy", fastmath=ANY_ORDER)
def _step(slopes, left, damping):  # type: ignore[no-untyped-def]
    """The damped step (kinds) that takes up most of what is left, by elimination."""
    kinds = slopes.shape[0]
    normal = np.empty((kinds, kinds + 1))
    for k in range(kinds):
        for m in range(k, kinds):
            total = 0.0
            for i in range(left.size):
                total += slopes[k, i] * slopes[m, i]
            normal[k, m] = normal[m, k] = total
        total = 0.0
        for i in range(left.size):
            total += slopes[k, i] * left[i]
        normal[k, kinds] = total
    for k in range(kinds):
        normal[k, k] *= 1.0 + damping
    for k in range(kinds):
        for m in range(kinds):
            if m != k:
                times = normal[m, k] / normal[k, k]
                for j in range(k, kinds + 1):
                    normal[m, j] -= times * normal[k, j]
    return normal[:, kinds] / np.diag(normal)


@njit(cache=True, nogil=True, error_model="numpy")
def _fit_one(dx, dy, data, guess, beta, blur):  # type: ignore[no-untyped-def]
    """FWHM and β by Levenberg and Marquardt's steps in the logarithms of both, height and pedestal
    being the best for each: of the slopes what these two can't take up (variable projection:
    Kaufman 1975, BIT 15, 49), else the steps are a few times too short. The centre of a narrow star
    is drawn to the middle of its pixels, which would widen it: it is sought as well.
    """
    n, narrow = data.size, guess < _NARROW_PX
    alpha = guess / (2.0 * np.sqrt(2.0 ** (1.0 / beta) - 1.0))
    now, damping, cost, height = np.array([alpha, beta, 0.0, 0.0]), 1e-3, np.inf, 0.0
    new, small, kinds = now.copy(), False, 4 if narrow else 2
    shape, left, new_left = np.empty(n), np.empty(n), np.empty(n)
    slopes, new_slopes = np.empty((kinds, n)), np.empty((kinds, n))
    for _ in range(_MOST_STEPS + 1):
        if narrow:
            _narrow(dx, dy, new, blur, shape, new_slopes)
        else:
            _wide(dx, dy, new, blur, shape, new_slopes)
        new_height, new_cost = _fit_height(data, shape, new_slopes, new_left)
        if new_cost <= cost:
            height, cost = new_height, new_cost
            for k in range(now.size):
                now[k] = new[k]
            left, new_left = new_left, left
            slopes, new_slopes = new_slopes, slopes
            damping = max(damping * 0.2, 1e-9)
            if small:
                break
        elif cost == np.inf:
            return 0.0, 0.0  # there is nothing to begin from
        else:
            damping *= 8.0
            if not damping < 1e6:
                break
        step = _step(slopes, left, damping)
        if not np.all(np.isfinite(step)):
            return 0.0, 0.0
        small = abs(step[0]) < 2e-3 and abs(step[1]) < 1e-2
        new[0] = now[0] * np.exp(min(max(step[0], -0.5), 0.5))
        new[1] = min(max(now[1] * np.exp(min(max(step[1], -0.5), 0.5)), 1.2), 12.0)
        for k in range(2, kinds):
            new[k] = min(max(now[k] + step[k], -_MOST_OFF_PX), _MOST_OFF_PX)
    if height <= 0.0:
        return 0.0, 0.0
    return 2.0 * now[0] * np.sqrt(2.0 ** (1.0 / now[1]) - 1.0), now[1]
