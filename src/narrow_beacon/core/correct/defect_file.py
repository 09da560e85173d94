"""Defect maps as files: a table of marks, or an image whose pixels other than 0 are defects."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from narrow_beacon.core.correct.defects import Mark
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_images, read_pixels

MOST_MARKS = 20_000
_MOST_BYTES = 2_000_000
_HEAD = ("x", "y", "width", "height")


def write_marks(marks: Sequence[Mark]) -> str:
    """Marks as CSV: x, y, width, height, in pixels of the file counted from 1."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_HEAD)
    table.writerows((x + 1, y + 1, width, height) for x, y, width, height in marks)
    return out.getvalue()


def read_marks(path: Path) -> tuple[Mark, ...]:
    """Marks of a CSV (x, y and, for more than a pixel, width and height) or of a FITS image.

    Raises UnreadableFileError, with the line that cannot be read.
    """
    if path.suffix.lower() in (".csv", ".txt"):
        try:
            if path.stat().st_size > _MOST_BYTES:
                raise UnreadableFileError(f"{path.name}: larger than any table of marks is")
            return marks_of_table(path.read_text(encoding="utf-8"), path.name)
        except (OSError, UnicodeDecodeError) as error:
            raise UnreadableFileError(f"{path.name}: cannot be read as text ({error})") from error
    return marks_of_mask(read_pixels(read_images(path)[0].source) != 0, path.name)


def marks_of_table(text: str, name: str) -> tuple[Mark, ...]:
    """Marks of a CSV's text. Raises UnreadableFileError."""
    rows = [row for row in csv.reader(io.StringIO(text)) if any(cell.strip() for cell in row)]
    if not rows or [cell.strip().lower() for cell in rows[0]][:2] != ["x", "y"]:
        raise UnreadableFileError(f"{name}: its first line must be {', '.join(_HEAD)}")
    marks = []
    for number, row in enumerate(rows[1:], 2):
        try:
            x, y, width, height = [int(cell) for cell in row] + [1] * (4 - len(row))
        except ValueError as error:
            raise UnreadableFileError(
                f"{name}, line {number}: “{', '.join(row)}” is not x, y, width, height"
            ) from error
        if min(x, y, width, height) < 1:
            raise UnreadableFileError(f"{name}, line {number}: pixels count from 1")
        marks.append((x - 1, y - 1, width, height))
    return _not_too_many(marks, name)


def marks_of_mask(mask: np.ndarray, name: str = "the map") -> tuple[Mark, ...]:
    """Rectangles that cover the pixels of a mask (height, width), whole columns as one."""
    edges = np.diff(np.pad(mask.astype(np.int8), ((1, 1), (0, 0))), axis=0)
    columns, first = np.nonzero(edges.T == 1)
    _, end = np.nonzero(edges.T == -1)
    marks: dict[tuple[int, int, int], Mark] = {}
    for x, low, high in zip(columns.tolist(), first.tolist(), end.tolist(), strict=True):
        # The same rows in the column before: one rectangle.
        left, _, width, _ = marks.pop((x - 1, low, high), (x, low, 0, 0))
        marks[x, low, high] = (left, low, width + 1, high - low)
    return _not_too_many(sorted(marks.values()), name)


def _not_too_many(marks: Sequence[Mark], name: str) -> tuple[Mark, ...]:
    if len(marks) > MOST_MARKS:
        raise UnreadableFileError(
            f"{name}: {len(marks):,} marks; {MOST_MARKS:,} at most: leave hot pixels to the "
            "threshold, and mark what it does not find"
        )
    return tuple(marks)
