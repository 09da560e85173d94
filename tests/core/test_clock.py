"""A clock or a site that can't be right is told by where field and Sun stood, and by the headers'
airmass; that of the truth is by another formula than the one it is held against.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from builders import write_simple
from narrow_beacon.core.curve.clock_doubt import ClockDoubt, doubt_clock
from narrow_beacon.core.curve.earth import Site, moments_of
from narrow_beacon.core.frames.frame import Frame, TimeRule
from narrow_beacon.core.frames.sort import inspect_file
from narrow_beacon.reduce.standing import clock_remarks, time_remarks
from narrow_beacon.simulate.pointing import airmass_at, altitude_deg

SITE = Site(43.1, -9.4, 210.0)
BEGIN = datetime(2026, 9, 20, 20, 40)
RA, DEC = 341.2, 41.6


def night(count: int = 20, hours: float = 5.0) -> list[datetime]:
    return [BEGIN + timedelta(hours=hours * n / (count - 1)) for n in range(count)]


def airmass(times: list[datetime], ra: float = RA, dec: float = DEC, digits: int = 3) -> np.ndarray:
    """As a mount writes it."""
    each = [altitude_deg(t, ra, dec, SITE.latitude_deg, SITE.longitude_deg) for t in times]
    return np.round([airmass_at(a) if a > 0 else np.nan for a in each], digits)


def doubt(
    times: list[datetime],
    said: np.ndarray,
    site: Site = SITE,
    place: tuple[float, float] = (RA, DEC),
) -> ClockDoubt | None:
    return doubt_clock(moments_of(times).jd(), said, *place, site)


def shifted(times: list[datetime], hours: float) -> list[datetime]:
    return [time + timedelta(hours=hours) for time in times]


@pytest.mark.parametrize("digits", [2, 4])
@pytest.mark.parametrize("hours", [0.5, 5.0])
@pytest.mark.parametrize(("ra", "dec"), [(RA, DEC), (300.0, -12.0), (20.0, 80.0)])
def test_a_right_clock_is_not_doubted(ra: float, dec: float, hours: float, digits: int) -> None:
    times = night(hours=hours)
    middle = shifted(times, 0.05)  # the header's is of the beginning of six minutes
    said = airmass(times, ra, dec, digits)
    assert doubt(middle, said, place=(ra, dec)) is None
    # The target stands half a degree beside where the telescope points.
    assert doubt(middle, said, place=(ra + 0.4 / np.cos(np.radians(dec)), dec - 0.3)) is None
    assert doubt(times, np.full(len(times), np.nan), place=(ra, dec)) is None


@pytest.mark.parametrize("hours", [-3.0, -1.0, 1.0, 2.0, 5.5])
@pytest.mark.parametrize(("ra", "dec"), [(RA, DEC), (300.0, -12.0)])
def test_local_time_is_told_by_the_headers_airmass(ra: float, dec: float, hours: float) -> None:
    found = doubt(shifted(night(), hours), airmass(night(), ra, dec), place=(ra, dec))
    assert found is not None
    assert found.shift_h == pytest.approx(-hours, abs=0.15)  # 0.01 of an airmass near the zenith


def test_a_longitude_of_the_other_sign_is_told() -> None:
    found = doubt(night(), airmass(night()), replace(SITE, longitude_deg=9.4))
    assert found is not None
    assert found.shift_h is not None
    assert 15.041 * found.shift_h == pytest.approx(-18.8, abs=2.0)
    assert found.said is not None
    assert found.computed is not None
    assert abs(found.said - found.computed) > 0.05


def test_an_airmass_that_nobody_keeps_up_says_nothing() -> None:
    assert doubt(night(), np.full(20, 1.0)) is None
    # Three hours away and an airmass that fits none of them: doubt, but no shift.
    found = doubt(night(), np.linspace(3.0, 5.0, 20))
    assert found is not None
    assert found.shift_h is None


def test_stars_by_day_or_from_below_the_horizon_are_no_stars() -> None:
    nothing = np.full(20, np.nan)
    by_day = doubt(shifted(night(), 12.0), nothing, place=(90.0, 70.0))
    assert by_day == ClockDoubt(20, 0, 20)
    down = doubt(night(), nothing, place=(150.0, -20.0))
    assert down == ClockDoubt(20, 20, 0)
    # One exposure too many in the morning is no wrong clock.
    late = [*night(19), datetime(2026, 9, 21, 7, 30)]
    assert doubt(late, nothing) is None


def frames(
    folder: Path, times: list[datetime], said: np.ndarray | None = None, exposure_s: float = 60.0
) -> list[Frame]:
    """Exposures that begin at these times, with an airmass in their headers or without; they take
    the place of those before.
    """
    found = []
    for n, time in enumerate(times):
        path = folder / f"sky-{n}.fits"
        path.unlink(missing_ok=True)
        cards = {} if said is None else {"AIRMASS": float(said[n])}
        write_simple(
            path, np.full((40, 40), 500, np.uint16), IMAGETYP="Light Frame", EXPTIME=exposure_s,
            INSTRUME="Kittiwake 800", **{"DATE-OBS": time.isoformat()}, **cards,
        )  # fmt: skip
        frame = inspect_file(path, path.name, None, TimeRule())
        assert isinstance(frame, Frame)
        found.append(frame)
    return found


def test_exposures_that_overlap_have_a_wrong_time_or_length(tmp_path: Path) -> None:
    begin = datetime(2026, 9, 20, 22)
    back_to_back = [begin + timedelta(seconds=60 * n) for n in range(5)]
    assert time_remarks(frames(tmp_path, back_to_back)) == []
    (remark,) = time_remarks(frames(tmp_path, back_to_back, exposure_s=60000.0))
    assert "began 4 of 5 exposures before the one before had ended" in remark.words
    assert "60 s after sky-0.fits, which is 60000 s long" in remark.words
    (remark,) = time_remarks(frames(tmp_path, [begin] * 3))
    assert "at the time of sky-0.fits" in remark.words
    (remark,) = time_remarks(frames(tmp_path, [begin.replace(year=1926)]))
    assert "took exposures in 1926" in remark.words


def test_the_observer_is_told_what_to_change(tmp_path: Path) -> None:
    true = airmass(night(6))
    right, local = (frames(tmp_path, shifted(night(6), hours), true) for hours in (0.0, 2.0))
    assert clock_remarks(right, (RA, DEC), SITE) == []
    (remark,) = clock_remarks(local, (RA, DEC), SITE)
    assert remark.stage == "intake"
    assert "as if the clock were 2.0 h ahead or the site 30° farther west" in remark.words
    assert remark.remedy.startswith("where it is the clock, add −2.0h")
    (remark,) = clock_remarks(right, (RA, DEC), replace(SITE, longitude_deg=9.4))
    assert remark.words.endswith("with the other sign of its longitude")
    assert clock_remarks(local, None, SITE) == clock_remarks(local, (RA, DEC), None) == []
