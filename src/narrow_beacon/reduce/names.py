"""Names of what a reduction makes: by content, so that a change makes a new name."""

from __future__ import annotations

import hashlib

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.frames.frame import Frame


class Spelled:
    """A long value that goes into many names, spelled out once."""

    def __init__(self, value: object) -> None:
        self._words = repr(value)

    def __repr__(self) -> str:
        return self._words


def fingerprint(*parts: object) -> str:
    """A short name of some inputs: the same inputs give the same name, in one version of the
    program.
    """
    return hashlib.sha256(repr((__version__, *parts)).encode()).hexdigest()[:40]


def stars_print(stars: StarTable) -> str:
    """The name of a star table by its names, positions, motions and magnitudes."""
    digest = hashlib.sha256("\n".join(stars.names).encode())
    columns = [stars.ra_deg, stars.dec_deg, stars.pm_ra_mas_yr, stars.pm_dec_mas_yr]
    for name, band in stars.bands.items():
        digest.update(name.encode())
        columns += [band.magnitude, band.uncertainty]
    if stars.parallax_mas is not None:
        columns.append(stars.parallax_mas)
    for column in columns:
        digest.update(np.ascontiguousarray(column, float).tobytes())
    digest.update(np.ascontiguousarray(stars.known_variable, bool).tobytes())
    digest.update(repr(stars.epoch_yr).encode())
    return digest.hexdigest()[:40]


def chain_name(frame: Frame) -> str:
    """Exposures with the same name are corrected by the same planes."""
    parts = [frame.night, frame.filter or "", f"{frame.exposure_s:g} s"]
    if frame.temperature_c is not None:
        parts.append(f"{frame.temperature_c:.0f} °C".replace("-", "−"))
    if frame.setting:
        parts.append(frame.setting)
    return ", ".join([*parts, frame.kit])


def group_name(frame: Frame) -> str:
    """A night in one filter with one kit and one setting of it: exposures that share star width,
    radii and what an ADU stands for.
    """
    setting = f", {frame.setting}" if frame.setting else ""
    return f"{frame.night} {frame.filter} {frame.kit}{setting}"
