"""Words for the observer that several rooms need."""

from __future__ import annotations


def counted(count: int, noun: str) -> str:
    """A number of things: "1 file", "12 files"."""
    return f"{count} {noun}{'' if count == 1 else 's'}"
