"""Words for the observer that several rooms need."""

from __future__ import annotations


def counted(count: int, one: str, more: str = "") -> str:
    """A number of things: "1 file", "12 files"; ``more`` where their words differ otherwise, as in
    "1 of them is", "12 of them are".
    """
    return f"{count} {one}" if count == 1 else f"{count} {more or one + 's'}"
