"""Make an atlas of a catalogue file: its stars by cells of the sky, and their patterns."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from narrow_beacon.core.catalogue.atlas import Atlas, build_atlas
from narrow_beacon.core.catalogue.files import NO_COLUMNS, stars_in_blocks
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.place.sky_patterns import PATTERNS, build_sky_patterns

Told = Callable[[str, int], None]
"""What is being done, and how far: rows read, or hundredths of the patterns."""


def _silent(_: str, __: int) -> None:
    """Says nothing."""


def make_atlas(
    file: Path,
    folder: Path,
    *,
    epoch_yr: float | None = None,
    columns: Mapping[str, str] = NO_COLUMNS,
    of_variables: bool = False,
    told: Told = _silent,
) -> Atlas:
    """Make an atlas of a file in ``folder``. Raises CatalogueError where the file is unusable."""

    def blocks() -> Iterator[StarTable]:
        rows = 0
        for block in stars_in_blocks(file, epoch_yr, columns, of_variables=of_variables):
            rows += len(block)
            told("reading", rows)
            yield block

    atlas = build_atlas(
        blocks(), folder, origin=file.name, sha256=file_sha256(file), columns=columns
    )
    if not of_variables:
        build_sky_patterns(
            atlas, folder / PATTERNS, lambda share: told("finding patterns", round(100 * share))
        )
    return atlas
