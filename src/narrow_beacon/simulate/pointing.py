"""Where the telescope points, as a FITS WCS of Astropy, and how high that is in the sky."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import numpy as np
from astropy.wcs import WCS, Sip


@dataclass(frozen=True)
class Pointing:
    """Centre (ICRS), scale, position angle of +y, mirror, and a slight barrel distortion.

    ``distortion`` is the shift in pixels at the corner of the frame.
    """

    ra_deg: float
    dec_deg: float
    scale_arcsec: float
    rotation_deg: float
    mirrored: bool
    shape: tuple[int, int]
    distortion: float = 0.0

    def wcs(self) -> WCS:
        """The WCS of the image, 1-based as in FITS."""
        height, width = self.shape
        wcs = WCS(naxis=2)
        suffix = "-SIP" if self.distortion else ""
        wcs.wcs.ctype = [f"RA---TAN{suffix}", f"DEC--TAN{suffix}"]
        wcs.wcs.crval = [self.ra_deg, self.dec_deg]
        wcs.wcs.crpix = [(width + 1) / 2, (height + 1) / 2]
        angle = np.radians(self.rotation_deg)
        up = np.array([np.sin(angle), np.cos(angle)])  # (east, north) of +y
        # Seen from inside the sphere, +x is 90° clockwise of +y unless the image is mirrored.
        right = np.array([-np.cos(angle), np.sin(angle)]) * (-1.0 if self.mirrored else 1.0)
        wcs.wcs.cd = np.stack([right, up], axis=1) * self.scale_arcsec / 3600.0
        if self.distortion:
            corner = np.hypot(width, height) / 2
            k = self.distortion / corner**3
            a = np.zeros((4, 4))
            b = np.zeros((4, 4))
            a[3, 0] = a[1, 2] = k
            b[0, 3] = b[2, 1] = k
            wcs.sip = Sip(a, b, None, None, wcs.wcs.crpix)
        wcs.wcs.set()
        return wcs

    def pixels(self, ra_deg: np.ndarray, dec_deg: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """0-based pixels of positions near the field."""
        x, y = self.wcs().all_world2pix(ra_deg, dec_deg, 0, quiet=True)
        return np.asarray(x), np.asarray(y)


def altitude_deg(
    moment_utc: datetime, ra_deg: float, dec_deg: float, latitude_deg: float, longitude_deg: float
) -> float:
    """Altitude by Greenwich mean sidereal time; good to a few hundredths of a degree, but for
    precession since 2000.
    """
    days = (moment_utc - datetime(2000, 1, 1, 12)).total_seconds() / 86400.0
    sidereal = 280.46061837 + 360.98564736629 * days + longitude_deg
    hour_angle = np.radians(sidereal - ra_deg)
    lat, dec = np.radians(latitude_deg), np.radians(dec_deg)
    sine = np.sin(lat) * np.sin(dec) + np.cos(lat) * np.cos(dec) * np.cos(hour_angle)
    return float(np.degrees(np.arcsin(sine)))


def airmass_at(altitude: float) -> float:
    """Airmass by Kasten & Young (1989, Applied Optics 28, 4735)."""
    return float(1.0 / (np.sin(np.radians(altitude)) + 0.50572 * (altitude + 6.07995) ** -1.6364))
