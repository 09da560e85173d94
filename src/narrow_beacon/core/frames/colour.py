"""Colour sensors: every pixel sees one colour. An exposure is taken apart into channels, each an
image of its own pixels alone; nothing is interpolated.
"""

from __future__ import annotations

from dataclasses import replace

from narrow_beacon.core.frames.fits_file import PixelSource

CHANNELS = {"red": "R", "green": "G", "blue": "B"}
"""The channels, and their letters in a pattern."""
STEP = 2
"""Pixels from one of a colour to the next."""


def is_pattern(text: str) -> bool:
    """Whether text can be the colours of 2 × 2 pixels, two green ones among them, row by row."""
    return sorted(text) == ["B", "G", "G", "R"] and "GG" not in (text[:2], text[2:])


def sites_of(
    pattern: str, origin: tuple[int, int], channel: str, first: tuple[int, int] = (0, 0)
) -> tuple[tuple[int, int], ...]:
    """Columns and rows (0 or 1) of a channel's pixels in the image's first 2 × 2.

    ``pattern`` counts row by row from the file's first pixel, of which ``origin`` columns and rows
    are cut off; the image begins at column and row ``first``.
    """
    found = [
        (x, y)
        for y in (0, 1)
        for x in (0, 1)
        if pattern[2 * ((y + first[1] + origin[1]) % 2) + (x + first[0] + origin[0]) % 2]
        == CHANNELS[channel]
    ]
    return tuple(found)


def channel_source(source: PixelSource, site: tuple[int, int]) -> PixelSource:
    """The pixels of one colour of an image, at ``site`` in its first 2 × 2."""
    return replace(
        source, height=source.height // STEP, width=source.width // STEP,
        stored=source.stored_shape, first=(source.first[0] + site[0], source.first[1] + site[1]),
        step=STEP,
    )  # fmt: skip
