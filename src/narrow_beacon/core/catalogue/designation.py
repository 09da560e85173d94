"""A name for a star that no one has named: by its place."""

from __future__ import annotations


def designation(ra_deg: float, dec_deg: float) -> str:
    """The observatory's own name of a star at a position (ICRS, degrees): NB, then hours, minutes
    and seconds to a tenth, degrees, minutes and seconds, cut off and not rounded, as the IAU's
    rules for designations ask (Dickel et al. 1987, IAU Information Bulletin 58).

    >>> designation(330.801733, 38.215601)
    'NB J220312.4+381256'
    """
    tenths = int(ra_deg % 360.0 / 15.0 * 36000.0 + 1e-6)
    hours, rest = divmod(tenths, 36000)
    minutes, tenths = divmod(rest, 600)
    seconds = int(abs(dec_deg) * 3600.0 + 1e-6)
    sign = "-" if dec_deg < 0 else "+"
    degrees, rest = divmod(seconds, 3600)
    return (
        f"NB J{hours:02d}{minutes:02d}{tenths // 10:02d}.{tenths % 10}"
        f"{sign}{degrees:02d}{rest // 60:02d}{rest % 60:02d}"
    )
