"""A plate solution: gnomonic projection, linear part, SIP distortion.

Standards: Greisen & Calabretta (2002, A&A 395, 1061), Calabretta & Greisen (2002, A&A 395, 1077),
Shupe et al. (2005, ASP 347, 491).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, alike, flat

_NO_SQUARE = 1.02
_HORIZON = 1e-6
"""Cosine of the distance from the centre down to which places are projected."""


def project(
    ra_deg: Floats, dec_deg: Floats, ra0_deg: float, dec0_deg: float
) -> tuple[Floats, Floats]:
    """Standard coordinates ξ (east), η (north) in degrees; NaN 90° or more from the centre."""
    dra = np.radians(np.asarray(ra_deg) - ra0_deg)
    dec, dec0 = np.radians(dec_deg), np.radians(dec0_deg)
    sin_dec, cos_dec = np.sin(dec), np.cos(dec)
    cos_dra = np.cos(dra)
    down = sin_dec * np.sin(dec0) + cos_dec * np.cos(dec0) * cos_dra
    down = np.where(down > _HORIZON, down, np.nan)
    xi = cos_dec * np.sin(dra) / down
    eta = (sin_dec * np.cos(dec0) - cos_dec * np.sin(dec0) * cos_dra) / down
    return np.degrees(xi), np.degrees(eta)


def deproject(
    xi_deg: Floats, eta_deg: Floats, ra0_deg: float | Floats, dec0_deg: float | Floats
) -> tuple[Floats, Floats]:
    """Right ascension and declination in degrees of standard coordinates in degrees."""
    xi, eta, dec0 = np.radians(xi_deg), np.radians(eta_deg), np.radians(dec0_deg)
    down = np.cos(dec0) - eta * np.sin(dec0)
    ra = ra0_deg + np.degrees(np.arctan2(xi, down))
    dec = np.degrees(np.arctan2(np.sin(dec0) + eta * np.cos(dec0), np.hypot(xi, down)))
    return ra % 360.0, dec


@njit(cache=True, nogil=True)
def projected(ra_deg, dec_deg, ra0_deg, sin_dec0, cos_dec0):  # type: ignore[no-untyped-def]
    """``project`` of one place."""
    dra, dec = np.radians(ra_deg - ra0_deg), np.radians(dec_deg)
    sin_dec, cos_dec = np.sin(dec), np.cos(dec)
    cos_dra = np.cos(dra)
    down = sin_dec * sin_dec0 + cos_dec * cos_dec0 * cos_dra
    if not down > _HORIZON:
        return np.nan, np.nan
    xi = cos_dec * np.sin(dra) / down
    eta = (sin_dec * cos_dec0 - cos_dec * sin_dec0 * cos_dra) / down
    return np.degrees(xi), np.degrees(eta)


@njit(cache=True, nogil=True)
def deprojected(xi_deg, eta_deg, ra0_deg, sin_dec0, cos_dec0):  # type: ignore[no-untyped-def]
    """``deproject`` of one place."""
    xi, eta = np.radians(xi_deg), np.radians(eta_deg)
    down = cos_dec0 - eta * sin_dec0
    ra = ra0_deg + np.degrees(np.arctan2(xi, down))
    dec = np.degrees(np.arctan2(sin_dec0 + eta * cos_dec0, np.hypot(xi, down)))
    return ra % 360.0, dec


def powers(order: int) -> list[tuple[int, int]]:
    """Exponents (p, q) of u^p v^q of the terms of degree 2 to ``order``."""
    return [(n - q, q) for n in range(2, order + 1) for q in range(n + 1)]


def monomials(u: Floats, v: Floats, order: int) -> Floats:
    """u^p v^q for all ``powers``, (terms, points), by multiplication: raising to powers is slow."""
    up, vp = [np.ones_like(u)], [np.ones_like(v)]
    for _ in range(order):
        up.append(up[-1] * u)
        vp.append(vp[-1] * v)
    return np.stack([up[p] * vp[q] for p, q in powers(order)])


@njit(cache=True, nogil=True)
def _shift_at(u, v, sip_a, sip_b, order):  # type: ignore[no-untyped-def]
    """The SIP shift of one offset, in the order of ``powers``."""
    a = b = 0.0
    at = 0
    for degree in range(2, order + 1):
        for q in range(degree + 1):
            term = 1.0
            for _ in range(degree - q):
                term *= u
            for _ in range(q):
                term *= v
            a += sip_a[at] * term
            b += sip_b[at] * term
            at += 1
    return a, b


@njit(cache=True, nogil=True)
def _distort(us, vs, sip_a, sip_b, order, a, b):  # type: ignore[no-untyped-def]
    for n in range(us.size):
        a[n], b[n] = _shift_at(us[n], vs[n], sip_a, sip_b, order)


@njit(cache=True, nogil=True)
def _to_pixels(ra, dec, centre, inverse, sip_a, sip_b, order, reach, xs, ys):  # type: ignore[no-untyped-def]
    """Offsets in pixels of places on the sky; the distortion is taken off within ``reach``."""
    ra0, dec0 = centre
    sin0, cos0 = np.sin(np.radians(dec0)), np.cos(np.radians(dec0))
    for n in range(ra.size):
        xi, eta = projected(ra[n], dec[n], ra0, sin0, cos0)
        u0 = inverse[0, 0] * xi + inverse[0, 1] * eta
        v0 = inverse[1, 0] * xi + inverse[1, 1] * eta
        u, v = u0, v0
        if order > 1 and np.hypot(u0, v0) < reach:
            for _ in range(8):
                a, b = _shift_at(u, v, sip_a, sip_b, order)
                step = abs(u0 - a - u) + abs(v0 - b - v)
                u, v = u0 - a, v0 - b
                if step < 1e-3:  # the next step would be smaller by the distortion's slope
                    break
        xs[n], ys[n] = u, v


@njit(cache=True, nogil=True)
def _to_sky(us, vs, centre, cd, sip_a, sip_b, order, ra, dec):  # type: ignore[no-untyped-def]
    """Places on the sky of offsets in pixels."""
    ra0, dec0 = centre
    sin0, cos0 = np.sin(np.radians(dec0)), np.cos(np.radians(dec0))
    for n in range(us.size):
        u, v = us[n], vs[n]
        if order > 1:
            a, b = _shift_at(u, v, sip_a, sip_b, order)
            u, v = u + a, v + b
        xi, eta = cd[0, 0] * u + cd[0, 1] * v, cd[1, 0] * u + cd[1, 1] * v
        ra[n], dec[n] = deprojected(xi, eta, ra0, sin0, cos0)


@dataclass(frozen=True)
class Solution:
    """Where the pixels (0-based) of an exposure are on the sky (ICRS).

    ``cd`` is (2, 2) in degrees a pixel; ``sip_a`` and ``sip_b`` are coefficients of ``powers``,
    in pixels, empty where there is no distortion.
    """

    ra0_deg: float
    dec0_deg: float
    x0_px: float
    y0_px: float
    cd: Floats
    shape: tuple[int, int]
    sip_order: int
    sip_a: Floats
    sip_b: Floats

    @classmethod
    def linear(
        cls, ra0: float, dec0: float, x0: float, y0: float, cd: Floats, shape: tuple[int, int]
    ) -> Solution:
        """A solution without distortion."""
        return cls(ra0, dec0, x0, y0, np.asarray(cd, float), shape, 1, np.empty(0), np.empty(0))

    @cached_property
    def _cd(self) -> Floats:
        return np.ascontiguousarray(self.cd, float)

    @cached_property
    def _determinant(self) -> float:
        (a, b), (c, d) = self.cd.tolist()
        return float(a * d - b * c)

    @cached_property
    def _inverse(self) -> Floats:
        (a, b), (c, d) = self.cd.tolist()
        return np.array([[d, -b], [-c, a]]) / self._determinant

    def distortion(self, u: Floats, v: Floats) -> tuple[Floats, Floats]:
        """SIP shifts in pixels at offsets (u, v) from the reference pixel."""
        x, y = alike(u, v)
        a, b = np.empty(x.shape), np.empty(x.shape)
        _distort(
            flat(x), flat(y), self.sip_a, self.sip_b, self.sip_order, a.reshape(-1),
            b.reshape(-1),
        )  # fmt: skip
        return a, b

    def standard(self, x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
        """Standard coordinates in degrees of pixels (0-based)."""
        u = np.asarray(x_px, float) - self.x0_px
        v = np.asarray(y_px, float) - self.y0_px
        if self.sip_order > 1:
            a, b = self.distortion(u, v)
            u, v = u + a, v + b
        return self.cd[0, 0] * u + self.cd[0, 1] * v, self.cd[1, 0] * u + self.cd[1, 1] * v

    def sky(self, x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
        """Right ascension and declination in degrees of pixels (0-based)."""
        x, y = alike(x_px, y_px)
        u, v = x - self.x0_px, y - self.y0_px
        ra, dec = np.empty(u.shape), np.empty(u.shape)
        _to_sky(
            flat(u), flat(v), (float(self.ra0_deg), float(self.dec0_deg)), self._cd,
            self.sip_a, self.sip_b, self.sip_order, ra.reshape(-1), dec.reshape(-1),
        )  # fmt: skip
        return ra, dec

    def pixel(self, ra_deg: Floats, dec_deg: Floats) -> tuple[Floats, Floats]:
        """Pixels (0-based) of positions in degrees; NaN beyond the horizon of the projection.

        The distortion is inverted by iteration within a frame's width of the centre; farther out
        only the linear part counts, since the polynomials mean nothing there.
        """
        ra, dec = alike(ra_deg, dec_deg)
        x, y = np.empty(ra.shape), np.empty(ra.shape)
        _to_pixels(
            flat(ra), flat(dec), (float(self.ra0_deg), float(self.dec0_deg)), self._inverse,
            self.sip_a, self.sip_b, self.sip_order, 0.75 * float(np.hypot(*self.shape)),
            x.reshape(-1), y.reshape(-1),
        )  # fmt: skip
        return x + self.x0_px, y + self.y0_px

    @property
    def scale_arcsec_per_px(self) -> float:
        """Mean scale at the reference pixel."""
        return 3600.0 * math.sqrt(abs(self._determinant))

    @property
    def scale_words(self) -> str:
        """The scale in words, along both sides where pixels are no squares."""
        width, height = (3600.0 * side for side in self._sides_deg)
        if max(width, height) < _NO_SQUARE * min(width, height):
            return f"{self.scale_arcsec_per_px:.4f}″ a pixel"
        return f"{width:.4f}″ × {height:.4f}″ a pixel"

    @property
    def aspect(self) -> float:
        """Height of a pixel over its width on the sky."""
        width, height = self._sides_deg
        return height / width

    @property
    def _sides_deg(self) -> tuple[float, float]:
        """Width and height of a pixel on the sky."""
        (a, b), (c, d) = self.cd.tolist()
        return math.hypot(a, c), math.hypot(b, d)

    @property
    def rotation_deg(self) -> float:
        """Position angle of the image's +y axis, from north through east, 0 to 360."""
        angle = float(np.degrees(np.arctan2(self.cd[0, 1], self.cd[1, 1])))
        return round(angle, 9) % 360.0  # −1e-15° is 0°, not 360°

    @property
    def mirrored(self) -> bool:
        """Whether the image is a mirror image of the sky (positive determinant of CD)."""
        return self._determinant > 0

    @cached_property
    def centre(self) -> tuple[float, float]:
        """Right ascension and declination in degrees of the middle of the image."""
        height, width = self.shape
        ra, dec = self.sky(np.array([(width - 1) / 2]), np.array([(height - 1) / 2]))
        return float(ra[0]), float(dec[0])

    @property
    def radius_deg(self) -> float:
        """Half of the image's diagonal on the sky."""
        (width, height), (rows, columns) = self._sides_deg, self.shape
        return math.hypot(width * columns, height * rows) / 2.0

    def with_pixels_of(self, aspect: float, shape: tuple[int, int]) -> Solution:
        """A linear solution of square pixels as one of an image (height, width) whose pixels are
        ``aspect`` times as high as wide.
        """
        return Solution.linear(
            self.ra0_deg, self.dec0_deg, self.x0_px, (self.y0_px + 0.5) / aspect - 0.5,
            self.cd * [1.0, aspect], shape,
        )  # fmt: skip

    def turned_half(self) -> Solution:
        """The solution after a half turn of the camera about the middle of the image."""
        ra, dec = self.centre
        height, width = self.shape
        return Solution.linear(ra, dec, (width - 1) / 2, (height - 1) / 2, -self.cd, self.shape)

    def among(self, first: tuple[int, int], step: int, shape: tuple[int, int]) -> Solution:
        """The same for the pixels of a file (height, width) of which this image is a part: from
        column and row ``first`` on, every ``step``-th.
        """
        scale = float(step) ** (1.0 - np.array([p + q for p, q in powers(self.sip_order)]))
        return Solution(
            self.ra0_deg, self.dec0_deg, first[0] + step * self.x0_px,
            first[1] + step * self.y0_px, self.cd / step, shape, self.sip_order,
            self.sip_a * scale if self.sip_a.size else self.sip_a,
            self.sip_b * scale if self.sip_b.size else self.sip_b,
        )  # fmt: skip

    def header(self) -> dict[str, str | float]:
        """FITS WCS keywords, positions counted from 1."""
        suffix = "-SIP" if self.sip_order > 1 else ""
        cards: dict[str, str | float] = {
            "CTYPE1": f"RA---TAN{suffix}",
            "CTYPE2": f"DEC--TAN{suffix}",
            "CUNIT1": "deg",
            "CUNIT2": "deg",
            "RADESYS": "ICRS",
            "CRVAL1": self.ra0_deg,
            "CRVAL2": self.dec0_deg,
            "CRPIX1": self.x0_px + 1.0,
            "CRPIX2": self.y0_px + 1.0,
        }
        for i in (0, 1):
            for j in (0, 1):
                cards[f"CD{i + 1}_{j + 1}"] = float(self.cd[i, j])
        if self.sip_order > 1:
            cards["A_ORDER"] = cards["B_ORDER"] = self.sip_order
            for (p, q), a, b in zip(powers(self.sip_order), self.sip_a, self.sip_b, strict=True):
                cards[f"A_{p}_{q}"] = float(a)
                cards[f"B_{p}_{q}"] = float(b)
        return cards
