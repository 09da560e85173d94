"""Remarks on nights whose clock or site can't be right."""

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
        "all times of the night may be wrong by hours, and its airmass", remedy,
    )  # fmt: skip


def _of(some: int, count: int) -> str:
    """“all 5 exposures”, “2 of 5 exposures”, “the exposure”."""
    if some < count:
        return f"{some} of {counted(count, 'exposure')}"
    return f"all {count} exposures" if count > 1 else "the exposure"
