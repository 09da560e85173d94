"""One name for a filter, however a capture program spells it."""

from __future__ import annotations

import re

from narrow_beacon.core.bands import band_of_filter

_MOST_NAME = 40
_WIDTH = re.compile(r"\d\s*(nm|Å|A)\b")


def filter_name(text: str) -> str:
    """The usual name of a filter: that of its band where it is a known one (``core.bands``), else
    its own spelling, without blanks at its ends. One that says its width is a filter of its own.
    """
    plain = re.sub(r"\s+", " ", text.strip())[:_MOST_NAME].strip()
    return plain if _WIDTH.search(plain) else band_of_filter(plain) or plain
