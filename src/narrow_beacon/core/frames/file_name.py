"""Read kind, filter, exposure time and start out of a file's name, by a pattern of the observer's.

A pattern is the name with ``{kind}``, ``{filter}``, ``{seconds}`` or ``{time}`` where a value
stands and ``*`` for any text. It fits from the start of the name; what comes after it does not
matter. With slashes it is held against as many folders above the file.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.header import KINDS, kind_of

_SLOTS = {
    "kind": r"[A-Za-z]+(?:[-_ ][A-Za-z]+)*",
    "filter": r"[^-_.\s/]+",
    "seconds": r"\d+(?:\.\d+)?",
    "time": r"\d{4}-?\d\d-?\d\d[T_ -]?\d\d[-:.h]?\d\d[-:.m]?\d\d(?:\.\d{1,6})?",
}
_PIECE = re.compile(r"\{([^{}]*)\}|\*+|[^{}*]+|[{}]")
_MOST_STARS = 3
"""More would let a name that nearly fits be tried in millions of ways."""


class NamePatternError(BeaconError):
    """A pattern that can't be read."""


@dataclass(frozen=True)
class NameValues:
    """What a name says; None where the pattern does not ask."""

    kind: str | None = None
    filter: str | None = None
    exposure_s: float | None = None
    time_utc: datetime | None = None
    """Start of the exposure."""


class NamePattern:
    """A pattern made ready.

    Examples
    --------
    >>> NamePattern("{kind}_{filter}_{seconds}s").read("night/Light_V_60s_0012.fits")
    NameValues(kind='exposure', filter='V', exposure_s=60.0, time_utc=None)
    """

    def __init__(self, pattern: str) -> None:
        """Raises NamePatternError for one that asks for nothing, or for what is not known."""
        text = pattern.strip().strip("/")
        self._folders = text.count("/")
        if len(re.findall(r"\*+", text)) > _MOST_STARS:
            raise NamePatternError(
                f"“{text}” has more than {_MOST_STARS} *: one stands for all text"
            )
        expression, slots = "", []
        for piece in _PIECE.finditer(text):
            slot = piece.group(1)
            if slot is None:
                if piece.group() in "{}":
                    raise NamePatternError(f"“{text}” has a lone {piece.group()}: write {{filter}}")
                stars = piece.group().startswith("*")
                expression += "[^/]*?" if stars else re.escape(piece.group())
            elif slot not in _SLOTS:
                known = ", ".join(f"{{{name}}}" for name in _SLOTS)
                raise NamePatternError(f"{{{slot}}} is none of {known}")
            elif slot in slots:
                raise NamePatternError(f"{{{slot}}} stands twice: one of them can be *")
            else:
                slots.append(slot)
                expression += f"(?P<{slot}>{_SLOTS[slot]})"
        if not slots:
            raise NamePatternError("write {kind}, {filter}, {seconds} or {time} where one stands")
        self._expression = re.compile(expression)

    def read(self, path: str) -> NameValues | None:
        """What a path says, or None where it does not fit."""
        parts = path.replace("\\", "/").split("/")
        found = self._expression.match("/".join(parts[-self._folders - 1 :]))
        if not found:
            return None
        said = found.groupdict()
        kind = kind_of(said["kind"]) if "kind" in said else None
        if "kind" in said and kind not in KINDS:
            return None
        try:
            begin = _moment(said["time"]) if "time" in said else None
        except ValueError:
            return None
        seconds = float(said["seconds"]) if "seconds" in said else None
        return NameValues(kind, said.get("filter"), seconds, begin)


def _moment(text: str) -> datetime:
    """Raises ValueError where the digits are no date and time."""
    digits = re.sub(r"\D", "", text)
    return datetime.strptime(digits.ljust(20, "0"), "%Y%m%d%H%M%S%f")
