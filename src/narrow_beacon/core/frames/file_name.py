"""Read kind, filter, exposure time, start and settings out of a file's name, by a pattern of the
observer's.

A pattern is the name with ``{kind}``, ``{filter}``, ``{seconds}``, ``{time}``, ``{temperature}``,
``{gain}``, ``{offset}`` or ``{camera}`` where a value stands and ``*`` for any text. It fits from
the start of the name; what comes after it does not matter. With slashes it is held against as many
folders above the file.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.header import KINDS, kind_of

_SLOTS = {
    "kind": re.compile(r"[A-Za-z]+(?:[-_ ][A-Za-z]+)*"),
    "filter": re.compile(r"[^-_.\s/]+"),
    "seconds": re.compile(r"\d+(?:\.\d+)?"),
    "temperature": re.compile(r"(?:[-+−]|m(?:inus)?)?\d+(?:\.\d+)?"),
    "gain": re.compile(r"\d+(?:\.\d+)?"),
    "offset": re.compile(r"\d+(?:\.\d+)?"),
    "camera": re.compile(r"[^-_.\s/]+"),
    "time": re.compile(r"\d{4}-?\d\d-?\d\d[T_ -]?\d\d[-:.h]?\d\d[-:.m]?\d\d(?:\.\d{1,6})?"),
}
_PIECE = re.compile(r"\{([^{}]*)\}|\*+|[^{}*]+|[{}]")
_MOST_LETTERS = 300


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
    temperature_c: float | None = None
    gain_setting: float | None = None
    offset_setting: float | None = None
    camera: str | None = None


class NamePattern:
    """A pattern made ready.

    Examples
    --------
    >>> NamePattern("{kind}_{filter}_{seconds}s").read("night/Light_V_60s_0012.fits")
    NameValues(kind='exposure', filter='V', exposure_s=60.0, ...)
    """

    def __init__(self, pattern: str) -> None:
        """Raises NamePatternError for one that asks for nothing, or for what is not known."""
        text = pattern.strip().strip("/")
        self._folders = text.count("/")
        self._pieces: list[_Piece] = []
        for piece in _PIECE.finditer(text):
            slot = piece.group(1)
            if slot is None:
                if piece.group() in "{}":
                    raise NamePatternError(f"“{text}” has a lone {piece.group()}: write {{filter}}")
                stars = piece.group().startswith("*")
                self._pieces.append(_ANY if stars else _Piece(literal=piece.group()))
            elif slot not in _SLOTS:
                known = ", ".join(f"{{{name}}}" for name in _SLOTS)
                raise NamePatternError(f"{{{slot}}} is none of {known}")
            elif any(known.slot == slot for known in self._pieces):
                raise NamePatternError(f"{{{slot}}} stands twice: one of them can be *")
            else:
                self._pieces.append(_Piece(slot=slot))
        if not any(piece.slot for piece in self._pieces):
            raise NamePatternError("write {kind}, {filter}, {seconds} or {time} where one stands")

    def read(self, path: str) -> NameValues | None:
        """What a path says, or None where it does not fit."""
        parts = path.replace("\\", "/").split("/")
        said = self._fit("/".join(parts[-self._folders - 1 :])[:_MOST_LETTERS])
        if said is None:
            return None
        kind = kind_of(said["kind"]) if "kind" in said else None
        if "kind" in said and kind not in KINDS:
            return None
        try:
            begin = _moment(said["time"]) if "time" in said else None
        except ValueError:
            return None
        seconds, gain, offset = (
            float(said[slot]) if slot in said else None for slot in ("seconds", "gain", "offset")
        )
        return NameValues(
            kind, said.get("filter"), seconds, begin, _degrees(said.get("temperature")), gain,
            offset, said.get("camera"),
        )  # fmt: skip

    def _fit(self, text: str) -> dict[str, str] | None:
        """The slots' texts where the pattern fits from the start: * as short, slots as long as may
        be. No place of the text is tried twice for a piece, whatever the pattern.
        """
        failed: set[tuple[int, int]] = set()

        def fit(number: int, begin: int) -> list[tuple[str, str]] | None:
            if number == len(self._pieces):
                return []
            if (number, begin) in failed:
                return None
            piece, end = self._pieces[number], begin
            for end in _ends(piece, text, begin):
                rest = fit(number + 1, end)
                if rest is not None:
                    return [(piece.slot, text[begin:end]), *rest]
            # What * could not stand for from here, it cannot from a later place of the folder.
            failed.update(
                (number, place) for place in range(begin, end + 1 if piece == _ANY else begin + 1)
            )
            return None

        found = fit(0, 0)
        return None if found is None else {slot: said for slot, said in found if slot}


@dataclass(frozen=True)
class _Piece:
    """Literal text, a slot, or any text where it is neither."""

    literal: str = ""
    slot: str = ""


_ANY = _Piece()


def _ends(piece: _Piece, text: str, begin: int) -> Iterator[int]:
    """Where a piece that begins at a place may end, the best first."""
    if piece.literal:
        if text.startswith(piece.literal, begin):
            yield begin + len(piece.literal)
    elif piece.slot:
        expression = _SLOTS[piece.slot]
        longest = expression.match(text, begin)
        for end in range(longest.end() if longest else begin, begin, -1):
            if expression.fullmatch(text, begin, end):
                yield end
    else:
        for end in range(begin, len(text) + 1):
            yield end
            if text[end : end + 1] == "/":
                return


def _degrees(text: str | None) -> float | None:
    """A temperature: "m10", "minus10" and "-10" are below zero."""
    if text is None:
        return None
    number = float(re.sub(r"^[^\d]+", "", text))
    return -number if text[0] in "-−m" else number


def _moment(text: str) -> datetime:
    """Raises ValueError where the digits are no date and time."""
    digits = re.sub(r"\D", "", text)
    return datetime.strptime(digits.ljust(20, "0"), "%Y%m%d%H%M%S%f")
