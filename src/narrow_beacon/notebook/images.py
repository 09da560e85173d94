"""Single images as arrays: where they are on the sky, and how bright their stars are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
from astropy.io import fits
from astropy.table import Table
from astropy.time import Time
from astropy.wcs import WCS

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.apply import DEFECT, SATURATED
from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.frames.steps import step_of
from narrow_beacon.core.measure.census import Apertures, ExposureCensus, Image, Places, take_census
from narrow_beacon.core.measure.flags import flag_words
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.measure.noise import CameraConstants, Exposed
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Hint, Solver
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import FIRST_GUESS_FWHM_PX, likely_width
from narrow_beacon.reduce.seeing import mark_cosmic_rays, see

_ERROR_DEG = 1.0
_USUAL_YEAR = 2000.0


@dataclass(frozen=True)
class Solved:
    """Where an image is on the sky, and why that can be trusted: by how many stars, how far from
    the catalogue they are (root mean square), and the chance of a false solution (log₁₀).
    """

    solution: Solution
    matched_stars: int
    residual_arcsec: float
    false_log10: float

    @property
    def wcs(self) -> WCS:
        """As Astropy has it, with distortion."""
        header = fits.Header()
        for key, value in self.solution.header().items():
            header[key] = value
        return WCS(header)


@dataclass(frozen=True)
class Measures:
    """The stars of one image: ``table`` for people, ``census`` for ``curve``."""

    table: Table
    census: ExposureCensus
    exposure_s: float
    airmass: float
    time: Time | None
    fwhm_px: float


def catalogue(file: Path | str, epoch: float | None = None) -> StarTable:
    """A star catalogue from a VOTable, ECSV, CSV or FITS file; columns are told by UCD, name and
    unit.

    Parameters
    ----------
    file
        Its path.
    epoch
        Of the positions, as a Julian year, where no column says it.

    Raises
    ------
    CatalogueError
        Where it is unreadable, or has no positions or magnitudes.
    """
    return read_catalogue(Path(file), epoch)


def solve(
    image: np.ndarray,
    stars: StarTable,
    *,
    near: tuple[float, float] | None = None,
    scale: tuple[float, float] | None = None,
    aspect: float | None = None,
    time: Time | datetime | None = None,
) -> Solved:
    """Place an image on the sky.

    Parameters
    ----------
    image
        (height, width), raw or corrected, row 0 at the bottom of the FITS convention; NaN where a
        pixel says nothing.
    stars
        As ``catalogue`` gives it.
    near
        Right ascension and declination in degrees of where it may be, within a degree or so.
    scale
        The least and the largest that a pixel may be, in seconds of arc.
    aspect
        How many times as high as wide pixels are, where they are no squares.
    time
        Of the image, for the stars' proper motion; 2000 without it.

    Raises
    ------
    NotPlacedError
        Where no solution is sure, with what was tried.
    """
    pixels, flags = _prepared(image, np.inf)
    step = step_of(pixels)
    guess = likely_width(pixels, measure_background(pixels, step_adu=step))
    seen = see(pixels, flags, guess, step_adu=step)
    fwhm = seen.profile.fwhm_px if seen.profile else FIRST_GUESS_FWHM_PX
    order = stars.brightness_order()
    ra, dec = places_at(stars, _year(time))
    ra0, dec0 = near or (None, None)
    hint = Hint(ra0, dec0, _ERROR_DEG, scale, (aspect,) if aspect else ())
    found = Solver(ra[order], dec[order]).place(
        seen.stars.x_px, seen.stars.y_px, pixels.shape, hint, seen.stars.position_error_px(fwhm)
    )
    return Solved(found.solution, found.matched, found.residual_arcsec, found.false_log10)


def measure(
    image: np.ndarray,
    solved: Solved,
    stars: StarTable,
    *,
    exposure_s: float,
    gain_e_per_adu: float,
    read_noise_e: float,
    time: Time | datetime | None = None,
    airmass: float = 1.0,
    aperture_m: float | None = None,
    linear_limit_adu: float = np.inf,
    fwhm_px: float | None = None,
    band: str | None = None,
    radii_fwhm: Sequence[float] = RADII_FWHM,
    annulus_fwhm: tuple[float, float] = (3.5, 5.5),
) -> Measures:
    """Measure every catalogue star on a corrected image, at several radii at once.

    Parameters
    ----------
    image
        (height, width) in ADU with bias and dark taken off and divided by the flat; NaN where a
        pixel says nothing.
    solved, stars
        As ``solve`` and ``catalogue`` give them.
    exposure_s, gain_e_per_adu, read_noise_e, aperture_m
        For the noise; without the telescope's aperture in metres there is no scintillation in it.
    time, airmass
        Of the middle of the exposure.
    linear_limit_adu
        From which on a pixel is saturated.
    fwhm_px
        The star width that radii and ring are counted in, one for the exposures of a night; the
        image's own without it.
    band
        The catalogue's, by which faint neighbours are told; its first without it.
    radii_fwhm, annulus_fwhm
        The apertures' radii and the sky ring, in star widths.

    Raises
    ------
    KeyError
        Where the catalogue has no such band.
    """
    pixels, flags = _prepared(image, linear_limit_adu)
    step = step_of(pixels)
    guess = fwhm_px or likely_width(pixels, measure_background(pixels, step_adu=step))
    seen = see(pixels, flags, guess, step_adu=step)
    mark_cosmic_rays(seen, gain_e_per_adu)
    own = seen.profile.fwhm_px if seen.profile else guess
    width = fwhm_px or own
    ra, dec = places_at(stars, _year(time))
    rows, x, y = Solver(ra, dec).in_frame(solved.solution)
    order = np.argsort(rows)
    rows, x, y = rows[order], x[order], y[order]
    magnitudes = stars.bands[band or next(iter(stars.bands))].magnitude[rows]
    inner, outer = annulus_fwhm
    census = take_census(
        Image(
            seen.pixels, seen.flags, seen.background, seen.stars, seen.profile, seen.trails,
        ),
        Places(rows, x, y, magnitudes),
        Apertures(own, np.array(radii_fwhm) * width, (inner * width, outer * width)),
        Exposed(exposure_s, airmass),
        CameraConstants(gain_e_per_adu, read_noise_e, aperture_m=aperture_m, step_adu=step),
    )  # fmt: skip
    moment = None if time is None else Time(time, scale="utc")
    return Measures(_table(census, stars, ra, dec), census, exposure_s, airmass, moment, own)


def _prepared(image: np.ndarray, limit_adu: float) -> tuple[Plane, Flags]:
    """Pixels as the core has them, and what is the matter with some."""
    if image.ndim != 2:
        raise ValueError(f"an image is (height, width); this one has {image.ndim} axes")
    pixels = np.array(image, np.float32, order="C")
    flags = np.zeros(pixels.shape, np.uint8)
    gone = ~np.isfinite(pixels)
    if gone.any():
        pixels[gone] = np.median(pixels[~gone])
        flags[gone] |= DEFECT
    flags[pixels >= limit_adu] |= SATURATED
    return pixels, flags


def _year(time: Time | datetime | None) -> float:
    if time is None:
        return _USUAL_YEAR
    return julian_year(time.utc.to_datetime() if isinstance(time, Time) else time)


def _table(census: ExposureCensus, stars: StarTable, ra: np.ndarray, dec: np.ndarray) -> Table:
    rows = census.rows
    flags = census.flags_at(float(census.radii_px[len(census.radii_px) // 2]))
    return Table(
        {
            "star": [stars.names[row] for row in rows.tolist()],
            "ra": ra[rows], "dec": dec[rows], "x": census.x_px, "y": census.y_px,
            "sky": census.sky_adu_per_px, "peak": census.peak_adu, "counts": census.counts_adu,
            "uncertainty": census.uncertainty_adu,
            "flags": [", ".join(flag_words(int(bits))) for bits in flags],
        },
        units={"ra": "deg", "dec": "deg", "x": "pix", "y": "pix", "sky": "adu/pix", "peak": "adu",
               "counts": "adu", "uncertainty": "adu"},
        descriptions={"x": "from 0", "y": "from 0", "counts": "at each radius, the sky taken off",
                      "flags": "at the middle radius"},
        meta={"radii_px": census.radii_px.tolist()},
    )  # fmt: skip
