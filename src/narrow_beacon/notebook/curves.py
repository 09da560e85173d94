"""From the measures of many images to a light curve, and what it says."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from astropy import units
from astropy.coordinates import EarthLocation
from astropy.table import QTable
from astropy.time import Time

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.light_curve import DOUBTFUL, GOOD
from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.series.extrema import find_extrema
from narrow_beacon.core.series.periods import find_periods
from narrow_beacon.notebook.images import Measures
from narrow_beacon.reduce.curves import FilterSeries, Judged, Roles, make_curve
from narrow_beacon.reduce.light import light_of


def curve(
    measures: Sequence[Measures],
    stars: StarTable,
    target: str,
    *,
    band: str,
    comparison: Sequence[str] = (),
    check: str | Sequence[str] = (),
    step: int | None = None,
    site: EarthLocation | None = None,
    vet: bool = True,
) -> QTable:
    """The differential light curve of a star from images in one filter.

    Parameters
    ----------
    measures
        As ``measure`` gives them, each with its time, in any order.
    stars
        The catalogue that they were measured by.
    target, comparison, check
        Names of stars; comparison and check stars are chosen where none is named.
    band
        The catalogue's band of the filter.
    step
        Which of the radii; the best for these stars without it.
    site
        For times at the barycentre that are right to a millisecond.
    vet
        Whether exposures that speak against themselves (clouds, a spoiled star of the cast) are
        left out.

    Returns
    -------
    QTable
        In order of time: ``time`` (UTC), ``bjd_tdb``, ``airmass``, magnitudes with uncertainties
        of target and check star, ``zero_point``, ``flags`` and ``state``. Its ``meta`` names the
        stars and the radius, and what was left out and why.

    Raises
    ------
    CatalogueError
        Where a name is not in the catalogue.
    NotMeasurableError
        Where there is no comparison star.
    """
    if any(one.time is None for one in measures):
        raise ValueError("every image needs its time: measure(…, time=…)")
    ordered = sorted(measures, key=lambda one: float(one.time.utc.jd))  # type: ignore[union-attr]
    checks = (check,) if isinstance(check, str) else tuple(check)
    row = stars.row(target)
    roles = Roles(
        row, tuple(stars.row(name) for name in comparison), tuple(stars.row(n) for n in checks)
    )
    moments = [one.time.utc.to_datetime() for one in ordered]  # type: ignore[union-attr]
    times = exposure_times(
        moments, float(stars.ra_deg[row]), float(stars.dec_deg[row]), _site(site)
    )
    airmass = np.array([one.airmass for one in ordered])
    every = tuple(range(len(ordered)))
    found = make_curve(
        FilterSeries(band, band, every, ("",) * len(every), airmass),
        light_of(
            FilterCensus.of([one.census for one in ordered], [one.exposure_s for one in ordered])
        ),
        stars, roles, step, Judged() if vet else Judged(keep=frozenset(every)),
    )  # fmt: skip
    at = list(found.indices)
    own = found.target
    table = QTable()
    table["time"] = Time(times.jd_utc[at], format="jd", scale="utc")
    table["bjd_tdb"] = Time(times.bjd_tdb[at], format="jd", scale="tdb")
    table["airmass"] = airmass[at]
    table["magnitude"] = own.magnitude * units.mag
    table["uncertainty"] = own.uncertainty * units.mag
    if found.check is not None:
        table["check_magnitude"] = found.check.magnitude * units.mag
        table["check_uncertainty"] = found.check.uncertainty * units.mag
    table["zero_point"] = found.ensemble.zero_point * units.mag
    table["flags"] = [", ".join(own.words(n)) for n in range(len(at))]
    table["state"] = np.where(own.doubtful, DOUBTFUL, GOOD)
    table.meta = {
        "target": stars.names[row], "band": band, "radius": found.choice.reason,
        "comparison": [stars.names[r] for r in found.cast.comparison],
        "check": [stars.names[r] for r in found.cast.checks],
        "left out": {moments[n].isoformat(): why for n, why in found.set_aside.items()},
    }  # fmt: skip
    return table


def period(
    time: Time | np.ndarray,
    magnitude: np.ndarray | units.Quantity,
    uncertainty: np.ndarray | units.Quantity,
    *,
    kind: str = "any",
    shortest: float | None = None,
    longest: float | None = None,
) -> QTable:
    """The periods that a light curve may have, the likeliest first.

    Parameters
    ----------
    time
        An Astropy time, or days; barycentric where it matters.
    magnitude, uncertainty
        Of each point; points without either take no part.
    kind
        "waves", "eclipses", or "any": whichever suits the curve.
    shortest, longest
        Limits of the search in days.

    Returns
    -------
    QTable
        ``period`` and ``uncertainty`` in days, ``power`` (the share of χ² that it takes away),
        ``false_alarm`` (the chance that noise does as well), ``note`` (whose half, double or daily
        alias it is).

    Raises
    ------
    TooFewPointsError
        With fewer than eight points.
    """
    found = find_periods(
        _days(time), _plain(magnitude), _plain(uncertainty), kind, shortest, longest
    )
    table = QTable()
    table["period"] = [peak.period_d for peak in found.peaks] * units.d
    table["uncertainty"] = [peak.uncertainty_d for peak in found.peaks] * units.d
    table["power"] = [peak.power for peak in found.peaks]
    table["false_alarm"] = [peak.false_alarm for peak in found.peaks]
    table["note"] = [peak.note for peak in found.peaks]
    table.meta = {"points": found.points, "span_d": found.span_d, "kind": found.kind}
    return table


def extrema(
    time: Time | np.ndarray,
    magnitude: np.ndarray | units.Quantity,
    uncertainty: np.ndarray | units.Quantity,
) -> QTable:
    """Times of minimum and maximum of a light curve.

    Parameters
    ----------
    time, magnitude, uncertainty
        As for ``period``.

    Returns
    -------
    QTable
        ``kind``, ``time`` and ``uncertainty`` in days on the scale of the times given, ``method``,
        ``points``, ``complete`` (False where it was partly observed) and ``symmetric``.
    """
    found = find_extrema(_days(time), _plain(magnitude), _plain(uncertainty))
    table = QTable()
    table["kind"] = [one.kind for one in found]
    table["time"] = [one.best.time_d for one in found] * units.d
    table["uncertainty"] = [one.best.uncertainty_d for one in found] * units.d
    table["method"] = [one.best.method for one in found]
    table["points"] = [one.points for one in found]
    table["complete"] = [one.complete for one in found]
    table["symmetric"] = [one.symmetric for one in found]
    return table


def _days(time: Time | np.ndarray) -> np.ndarray:
    return np.asarray(time.jd if isinstance(time, Time) else time, float)


def _plain(values: np.ndarray | units.Quantity) -> np.ndarray:
    plain = values.to_value(units.mag) if isinstance(values, units.Quantity) else values
    return np.asarray(plain, float)


def _site(place: EarthLocation | None) -> Site | None:
    if place is None:
        return None
    return Site(float(place.lat.deg), float(place.lon.deg), float(place.height.to_value(units.m)))
