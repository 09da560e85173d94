"""The rows of light curves, told from a reduction."""

from __future__ import annotations

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.light_curve import DOUBTFUL, GOOD, StarCurve
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.outcome import Told
from narrow_beacon.reduce.report_facts import target_name
from narrow_beacon.reduce.vet import THIN_CLOUD


def curve_points(told: Told) -> list[CurvePoint]:
    """The light curves' rows of all targets, in order of time."""
    points = [
        point for one in told.targets for curve in one.curves for point in _points_of(one, curve)
    ]
    return sorted(points, key=lambda point: (point.jd_utc, point.filter, point.exposure))


def _points_of(told: Told, curve: FilterCurve) -> list[CurvePoint]:
    """A column at a time: what is asked of a whole curve for each of its rows takes its square."""
    indices, looks, times = np.array(curve.indices, int), told.looks, told.times
    steps = np.array(looks.steps)[indices]
    unknown = np.full(indices.size, np.nan)
    check, standard = curve.check, curve.standard
    numbers: dict[str, Floats] = {
        "jd_utc": times.jd_utc[indices], "hjd_utc": times.hjd_utc[indices],
        "bjd_tdb": times.bjd_tdb[indices], "airmass": times.airmass[indices],
        "magnitude": curve.target.magnitude, "uncertainty": curve.target.uncertainty,
        "check_magnitude": check.magnitude if check else unknown,
        "check_uncertainty": check.uncertainty if check else unknown,
        "instrumental": curve.target.instrumental, "zero_point": curve.ensemble.zero_point,
        "zero_point_uncertainty": curve.ensemble.zero_point_uncertainty,
        "fwhm_px": looks.fwhm_px[indices], "sky_adu_per_px": looks.sky_adu_per_px[indices],
        "radius_px": steps * curve.census.radii_px[:, curve.choice.step],
        "transformed_magnitude": standard.magnitude if standard else unknown,
        "transformed_uncertainty": standard.uncertainty if standard else unknown,
        "limit_magnitude": curve.target.limit_mag,
    }  # fmt: skip
    rows = zip(*(np.asarray(values, float).tolist() for values in numbers.values()), strict=True)
    name, flags, doubtful = target_name(told), _flags_of(curve), curve.target.doubtful
    return [
        CurvePoint(
            exposure=looks.files[index], filter=curve.filter, flags=flags.get(at, ""), target=name,
            state=DOUBTFUL if doubtful[at] else GOOD, **dict(zip(numbers, row, strict=True)),
        )
        for at, (index, row) in enumerate(zip(curve.indices, rows, strict=True))
    ]  # fmt: skip


def _flags_of(curve: FilterCurve) -> dict[int, str]:
    """What is said of the curve's points, of which anything is."""
    found: dict[int, list[str]] = {}

    def say(star: StarCurve, at: int, before: str = "") -> None:
        found.setdefault(at, []).extend(f"{before}{word}" for word in star.words(at))

    for at in curve.target.noted.tolist():
        say(curve.target, at)
    if curve.check is not None:
        for at in np.flatnonzero(curve.check.doubtful).tolist():
            say(curve.check, at, "check star: ")
    for at in np.flatnonzero(curve.transparency < THIN_CLOUD).tolist():
        found.setdefault(at, []).append("thin cloud")
    return {at: ";".join(words) for at, words in found.items()}
