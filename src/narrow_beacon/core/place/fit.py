"""Fit a plate solution to matched stars, robustly, with distortion where the stars ask for it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Floats
from narrow_beacon.core.place.solution import (
    Solution,
    deprojected,
    monomials,
    powers,
    projected,
)
from narrow_beacon.core.weighted_fit import middle_of, solve

_CLIP = 3.5
_LEAST_CLIP = 0.05
_STARS_PER_TERM = 4
_LEAST_KEPT = 0.6  # in a crowded field a better fit shows more blends for what they are
_EARNED = 12.0
"""How much the Bayesian information criterion must fall before distortion is taken in."""


@dataclass(frozen=True)
class Fit:
    """A fitted solution, which stars it kept, and their residual in pixels: root mean square,
    weighted like the fit, and ``misfit``, the mean square in units of the stars' errors.
    """

    solution: Solution
    kept: Bools
    residual_px: float
    misfit: float


def fit_solution(
    x_px: Floats,
    y_px: Floats,
    ra_deg: Floats,
    dec_deg: Floats,
    error_px: Floats,
    start: Solution,
    *,
    orders: tuple[int, int] = (1, 1),
    keep_distortion: bool = False,
) -> Fit:
    """Robust least squares of pixel positions (0-based) on sky positions, at least 4 stars.

    ``error_px`` is the relative uncertainty of each star's position, which weighs it.
    ``orders`` are the lowest and the highest, up to 4, of SIP terms; those beyond the lowest come
    in where they are earned. ``keep_distortion`` fits the linear part only, under the distortion
    of ``start``.
    """
    if keep_distortion and start.sip_order > 1:
        # The distortion belongs to the optics: it stays with the sensor when the field drifts.
        height, width = start.shape
        a, b = start.distortion(x_px - (width - 1) / 2.0, y_px - (height - 1) / 2.0)
        fit = _fit_order(x_px + a, y_px + b, ra_deg, dec_deg, error_px, start, 1, most_turns=4)
        s = fit.solution
        solution = Solution(
            s.ra0_deg, s.dec0_deg, s.x0_px, s.y0_px, s.cd, s.shape,
            start.sip_order, start.sip_a, start.sip_b,
        )  # fmt: skip
        return Fit(solution, fit.kept, fit.residual_px, fit.misfit)
    lowest, highest = orders
    while lowest > 1 and x_px.size < _STARS_PER_TERM * (3 + len(powers(lowest))):
        lowest -= 1
    best = _fit_order(x_px, y_px, ra_deg, dec_deg, error_px, start, lowest)
    best_score = _information(best, _terms(lowest))
    for order in range(lowest + 1, highest + 1):
        terms = _terms(order)
        if x_px.size < _STARS_PER_TERM * terms // 2:
            break
        fit = _fit_order(x_px, y_px, ra_deg, dec_deg, error_px, start, order)
        score = _information(fit, terms)
        if score < best_score - _EARNED and fit.kept.sum() >= _LEAST_KEPT * best.kept.sum():
            best, best_score = fit, score
    return best


def _terms(order: int) -> int:
    return 2 * (3 + len(powers(order)))


def _information(fit: Fit, terms: int) -> float:
    # With clipping the number kept differs between fits; judge by the spread of one coordinate.
    n = 2 * int(fit.kept.sum())
    variance = max(fit.misfit / 2, 1e-12)
    return n * float(np.log(variance)) + terms * float(np.log(n))


def _fit_order(
    x_px: Floats,
    y_px: Floats,
    ra: Floats,
    dec: Floats,
    error: Floats,
    start: Solution,
    order: int,
    most_turns: int = 12,
) -> Fit:
    height, width = start.shape
    x0, y0 = (width - 1) / 2.0, (height - 1) / 2.0
    unit = max(height, width) / 2.0
    u, v = (x_px - x0) / unit, (y_px - y0) / unit
    design = np.empty((x_px.size, 3 + len(powers(order))))
    design[:, 0], design[:, 1], design[:, 2] = 1.0, u, v
    if order > 1:
        design[:, 3:] = monomials(u, v, order).T
    kept = np.ones(x_px.size, bool)
    distance = np.empty(x_px.size)
    coefficients: Floats = np.zeros((design.shape[1], 2))
    scale = start.scale_arcsec_per_px / 3600.0
    error = np.ascontiguousarray(error, float)
    ra0, dec0 = _turns(
        design, np.ascontiguousarray(ra, float), np.ascontiguousarray(dec, float), error,
        *start.centre, scale, most_turns, coefficients, kept, distance,
    )  # fmt: skip
    away = distance / error
    cd = coefficients[1:3].T / unit
    sip_a, sip_b = np.empty(0), np.empty(0)
    if order > 1:
        inverse = np.linalg.inv(cd)
        degree = np.array([p + q for p, q in powers(order)])
        sip = (inverse @ coefficients[3:].T) / unit**degree
        sip_a, sip_b = sip[0], sip[1]
    solution = Solution(ra0, dec0, x0, y0, cd, start.shape, order, sip_a, sip_b)
    weight = 1.0 / error[kept] ** 2
    residual = float(np.sqrt(np.sum(weight * distance[kept] ** 2) / np.sum(weight)))
    return Fit(solution, kept, residual, float(np.mean(away[kept] ** 2)))


@njit(cache=True, nogil=True)
def _turns(design, ra, dec, error, ra0, dec0, scale, most, coefficients, kept, distance):  # type: ignore[no-untyped-def]
    """Fit, put aside what is too far away for its error, move to the new centre, and again until
    neither changes; the centre at the end. ``coefficients`` (terms, 2) are of standard coordinates
    in degrees, ``distance`` is in pixels of ``scale`` degrees.
    """
    count, terms = design.shape
    target, weights = np.empty((count, 2)), np.empty(count)
    away, room, now = np.empty(count), np.empty(count), np.empty(count, np.bool_)
    for turn in range(most):
        sin0, cos0 = np.sin(np.radians(dec0)), np.cos(np.radians(dec0))
        for n in range(count):
            target[n, 0], target[n, 1] = projected(ra[n], dec[n], ra0, sin0, cos0)
            weights[n] = 1.0 / error[n] ** 2 if kept[n] else 0.0
        solve(design, target, weights, coefficients)
        for n in range(count):
            xi, eta = target[n]
            for k in range(terms):
                xi -= design[n, k] * coefficients[k, 0]
                eta -= design[n, k] * coefficients[k, 1]
            distance[n] = np.hypot(xi, eta) / scale
            away[n] = distance[n] / error[n]
        typical = middle_of(away, kept, room) / np.sqrt(2.0 * np.log(2.0))
        limit = max(_CLIP * typical, _LEAST_CLIP)
        left, same = 0, True
        for n in range(count):
            now[n] = away[n] < limit
            left += now[n]
            same = same and now[n] == kept[n]
        xi, eta = coefficients[0]
        ra0, dec0 = deprojected(xi, eta, ra0, sin0, cos0)
        if left < max(terms + 1, 4):
            break
        for n in range(count):
            kept[n] = now[n]
        if turn and same and np.hypot(xi, eta) < 1e-8:
            break
    return ra0, dec0
