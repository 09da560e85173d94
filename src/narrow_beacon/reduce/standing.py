"""Remarks on nights whose clock, exposure times or site can't be right."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from narrow_beacon.core.curve.clock_doubt import ClockDoubt, doubt_clock
from narrow_beacon.core.curve.earth import Site, moments_of
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.words import counted

_TURN_DEG_H = 15.041
"""By which the sky turns in an hour."""
_SAME_DEG = 3.0
"""As near as a longitude can be told by airmasses."""
_SLACK_S, _SLACK = 1.5, 0.02
"""By which exposures may overlap, and of their length: times are written in whole seconds."""
_FIRST_CAMERAS = 1970
TIMES_AT_STAKE = "times of the night may be wrong"
"""In what every remark here may cost."""


def time_remarks(exposures: Sequence[Frame]) -> list[Remark]:
    """Words on nights on which a camera began an exposure before its last one had ended, and on
    those before there were cameras.
    """
    taken: dict[tuple[str, str, str], list[Frame]] = defaultdict(list)
    for frame in {frame.file: frame for frame in exposures if frame.mid_utc}.values():
        if not frame.combined:
            # Two cameras of one make each have a folder of their own.
            folder = frame.file.rpartition("/")[0]
            taken[frame.night, frame.kit, folder].append(frame)
    remarks = []
    for (night, kit, _), frames in sorted(taken.items()):
        if frames[0].mid_utc and frames[0].mid_utc.year < _FIRST_CAMERAS and frames[0].camera:
            remarks.append(Remark(
                "intake", f"by its headers {kit} took exposures in {frames[0].mid_utc.year}; dates "
                "written as day/month/year with two digits are of the 20th century in FITS", night,
                f"all {TIMES_AT_STAKE} by decades",
                "give the right time in Intake",
            ))  # fmt: skip
        remarks += _overlapping(frames, night, kit)
    return remarks


def _overlapping(frames: list[Frame], night: str, kit: str) -> list[Remark]:
    mid = np.array([frame.mid_utc for frame in frames], "datetime64[us]")
    length = np.array([frame.exposure_s for frame in frames])
    start = (mid - mid.min()) / np.timedelta64(1, "s") - 0.5 * length
    order = np.argsort(start, kind="stable")
    gap = np.diff(start[order])
    before = length[order][:-1]
    over = np.flatnonzero(gap < before - np.maximum(_SLACK_S, _SLACK * before))
    if not over.size:
        return []
    one, other = (frames[order[over[0] + n]].name for n in (0, 1))
    gap_s, before_s = gap[over[0]], before[over[0]]
    begins = f"{gap_s:.0f} s after {one}" if gap_s >= 0.5 else f"at the time of {one}"
    return [Remark(
        "intake",
        f"{kit} began {_of(over.size, len(frames))} before the one before had ended: {other} "
        f"{begins}, which is {before_s:g} s long",
        night,
        f"{TIMES_AT_STAKE}, by half of a wrong exposure time or more",
        "put time or exposure time right in Intake; where these are of two cameras, nothing need "
        "be done",
    )]  # fmt: skip


def clock_remarks(
    exposures: Sequence[Frame], position: tuple[float, float] | None, site: Site | None
) -> list[Remark]:
    """Words on each night on which field, Sun or the headers' airmass speak against the times."""
    if position is None or site is None:
        return []
    nights: dict[str, list[Frame]] = defaultdict(list)
    for frame in {frame.file: frame for frame in exposures if frame.mid_utc}.values():
        nights[frame.night].append(frame)
    remarks = []
    for night, frames in sorted(nights.items()):
        jd = moments_of([frame.mid_utc for frame in frames if frame.mid_utc]).jd()
        said = [f.facts.airmass.value if f.facts.airmass else np.nan for f in frames]
        doubt = _doubt(jd.tobytes(), np.array(said, float).tobytes(), *position, site)
        if doubt is not None:
            remarks.append(_remark(night, doubt, site))
    return remarks


@lru_cache(maxsize=4096)
def _doubt(jd: bytes, said: bytes, ra_deg: float, dec_deg: float, site: Site) -> ClockDoubt | None:
    """What was found of a night is kept: long campaigns ask for each of theirs again and again."""
    return doubt_clock(np.frombuffer(jd), np.frombuffer(said), ra_deg, dec_deg, site)


def _remark(night: str, doubt: ClockDoubt, site: Site) -> Remark:
    signs = []
    if doubt.below:
        signs.append(f"the field is below the horizon on {_of(doubt.below, doubt.exposures)}")
    if doubt.by_day:
        signs.append(f"the Sun is up on {_of(doubt.by_day, doubt.exposures)}")
    if doubt.said is not None and doubt.computed is not None:
        other = f"is {doubt.computed:.2f}" if np.isfinite(doubt.computed) else "is none"
        signs.append(f"the airmass {other} where a header says {doubt.said:.2f}")
    words = "by clock, site and place " + ", ".join(signs)
    remedy = "check time, site and the target's place in Intake"
    if doubt.shift_h is not None:
        turn = _TURN_DEG_H * doubt.shift_h
        clock = f"{abs(doubt.shift_h):.1f} h {'behind' if doubt.shift_h > 0 else 'ahead'}"
        turned = abs((2.0 * site.longitude_deg + turn + 180.0) % 360.0 - 180.0) < _SAME_DEG
        where = f"{abs(turn):.0f}° farther {'east' if turn > 0 else 'west'}"
        words += f": as if the clock were {clock} or the site {where}"
        words += ", with the other sign of its longitude" if turned else ""
        sign = "+" if doubt.shift_h > 0 else "−"
        remedy = (
            f"where it is the clock, add {sign}{abs(doubt.shift_h):.1f}h to the headers' time in "
            "Intake; where it is the site, put its longitude right: east is positive"
        )
    return Remark(
        "intake", words, night,
        f"all {TIMES_AT_STAKE} by hours, and its airmass", remedy,
    )  # fmt: skip


def _of(some: int, count: int) -> str:
    """“all 5 exposures”, “2 of 5 exposures”, “the exposure”."""
    if some < count:
        return f"{some} of {counted(count, 'exposure')}"
    return f"all {count} exposures" if count > 1 else "the exposure"
