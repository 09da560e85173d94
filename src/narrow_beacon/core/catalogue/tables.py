"""Tables of any kind in blocks of rows: VOTable, ECSV, CSV, FITS. Text and FITS tables of any
length are read in bounded memory; a VOTable is read whole.
"""

from __future__ import annotations

import io
import re
import warnings
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import numpy as np
import pyarrow as pa
from pyarrow import csv

from narrow_beacon.core.catalogue.columns import Column
from narrow_beacon.core.errors import CatalogueError, UnreadableFileError
from narrow_beacon.core.frames.structure import GZIP_MAGIC, opened

if TYPE_CHECKING:
    from astropy.io import fits, votable
    from astropy.table import Column as TableColumn
    from astropy.table import Table

BLOCK_ROWS = 200_000
_START_BYTES = 65536
_HEAD_BYTES = 1 << 20
_TEXT_BLOCK_BYTES = 1 << 22
"""Arrow reads up to 32 of them ahead."""
_MOST_COLUMNS = 500
_MOST_VOTABLE_BYTES = 1_000_000_000
_TOLD_ROWS = 200
_WITH_UNIT = re.compile(r"^(.*\S)\s*[(\[]([^()\[\]]*)[)\]]$")
_UNITS = {
    "deg": "deg", "degree": "deg", "degrees": "deg", "°": "deg", "h": "hourangle",
    "hr": "hourangle", "hours": "hourangle", "mag": "mag", "mas": "mas", "mas/yr": "mas / yr",
    "yr": "yr", "j2000": "", "icrs": "", "h m s": "", "hms": "", "d m s": "", "dms": "",
}  # fmt: skip
"""What names of columns have in brackets, and the unit that is meant."""
_NOTHING = ["", "NA", "N/A", "NaN", "nan", "null", "None", "--", "-", "…"]


@dataclass(frozen=True)
class TableFile:
    """A table's columns, its first rows, and a way to go through all of it in blocks of the columns
    asked for; those of them that are ``text`` come as they are written.
    """

    label: str
    columns: tuple[Column, ...]
    head: Table
    _blocks: Callable[[Collection[str], Collection[str]], Iterator[Table]]

    def blocks(self, wanted: Collection[str], text: Collection[str]) -> Iterator[Table]:
        """The rows, in their order. Raises CatalogueError where the table breaks off."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                yield from self._blocks(wanted, text)
            except pa.ArrowInvalid as error:
                raise CatalogueError(f"catalogue {self.label}: {_plain(error)}") from error


def open_table(path: Path) -> TableFile:
    """Look at a table. Raises CatalogueError, with what is wrong, where it can't be read."""
    try:
        with path.open("rb") as file:
            start = file.read(_START_BYTES)
    except OSError as error:
        raise CatalogueError(
            f"catalogue {path.name}: cannot be opened ({error.strerror})"
        ) from error
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return _look(path, start)
    except (CatalogueError, UnreadableFileError) as error:
        raise CatalogueError(f"catalogue {error}") from error
    except Exception as error:
        raise CatalogueError(
            f"catalogue {path.name}: not readable as VOTable, ECSV, CSV or FITS table"
        ) from error


def open_votable(data: bytes, label: str) -> TableFile:
    """A VOTable in memory, as a cone search returns it."""
    from astropy.io import votable

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return _whole(votable.parse_single_table(io.BytesIO(data)), label)


def column_of(column: TableColumn) -> Column:
    """Name, UCD and unit of a column."""
    meta = getattr(column, "meta", {}) or {}
    ucd = str(meta.get("ucd") or meta.get("UCD") or getattr(column, "ucd", "") or "")
    return Column(column.name, ucd, str(column.unit or ""), column.dtype.kind in "iuf")


def _look(path: Path, start: bytes) -> TableFile:
    from astropy.io import votable

    if start.startswith((b"SIMPLE  =", GZIP_MAGIC)):
        return _fits(path)
    if b"<VOTABLE" in start or (start.lstrip().startswith(b"<") and b"VOTABLE" in start.upper()):
        if path.stat().st_size > _MOST_VOTABLE_BYTES:
            raise CatalogueError(
                f"{path.name}: a VOTable of more than 1 GB is not read; save it as CSV or FITS"
            )
        return _whole(votable.parse_single_table(path), path.name)
    line = next((part for part in start.splitlines() if not part.startswith(b"#")), b"")
    columns = line.count(_delimiter(line).encode()) + 1
    if columns > _MOST_COLUMNS or len(line) == _START_BYTES:
        raise CatalogueError(f"{path.name}: has {columns} columns or more; no star catalogue has")
    if b"\0" in start:
        raise CatalogueError(f"{path.name}: is no text, and none of the tables that can be read")
    return _text(path, ecsv=start.startswith(b"# %ECSV"))


def _table_file(label: str, head: Table, blocks: Callable[..., Iterator[Table]]) -> TableFile:
    return TableFile(label, tuple(column_of(head[n]) for n in head.colnames), head, blocks)


def _whole(parsed: votable.tree.TableElement, label: str) -> TableFile:
    table = parsed.to_table(use_names_over_ids=True)

    def blocks(wanted: Collection[str], _: Collection[str]) -> Iterator[Table]:
        yield table[[name for name in table.colnames if name in wanted]]

    return _table_file(label, table, blocks)


def _fits(path: Path) -> TableFile:
    from astropy.io import fits
    from astropy.table import MaskedColumn, Table

    with opened(path) as plain, fits.open(plain) as hdus:
        number = next((n for n, hdu in enumerate(hdus) if isinstance(hdu, fits.BinTableHDU)), None)
        number = number if number is not None else _ascii_table(hdus)
        if number is None:
            raise CatalogueError(f"{path.name}: a FITS file without a table in it")
        head = Table.read(hdus[number], format="fits")[:50]

    def blocks(wanted: Collection[str], _: Collection[str]) -> Iterator[Table]:
        with fits.open(path, memmap=True) as hdus:
            rows = hdus[number].data
            names = [name for name in head.colnames if name in wanted]
            for first in range(0, len(rows), BLOCK_ROWS):
                part = rows[first : first + BLOCK_ROWS]
                table = Table()
                for name in names:
                    table[name] = MaskedColumn(np.array(part[name]), unit=head[name].unit)
                yield table

    return _table_file(path.name, head, blocks)


def _ascii_table(hdus: fits.HDUList) -> int | None:
    from astropy.io import fits

    return next((n for n, hdu in enumerate(hdus) if isinstance(hdu, fits.TableHDU)), None)


def _text(path: Path, *, ecsv: bool) -> TableFile:
    from astropy.table import Table

    with path.open("rb") as file:
        start = file.read(_HEAD_BYTES)
        whole = not file.read(1)
    if not whole:
        start = start[: start.rfind(b"\n") + 1]
    above = _lines_above(start)
    rows = start.splitlines(keepends=True)[above:]
    delimiter, told = _delimiter(rows[0]), None
    point = _decimal_point(rows[1:], delimiter)
    if ecsv:
        told = Table.read(b"".join(start.splitlines(True)[: above + 1]).decode() + "\n",
                          format="ascii.ecsv")  # fmt: skip
        point = "."
        delimiter = "," if b"# delimiter: ','" in start or b'# delimiter: ","' in start else " "
    parse = csv.ParseOptions(delimiter=delimiter, invalid_row_handler=_stray)
    convert = csv.ConvertOptions(
        null_values=_NOTHING, strings_can_be_null=True, decimal_point=point
    )
    first = csv.read_csv(
        io.BytesIO(b"".join(rows)), parse_options=parse, convert_options=convert,
        read_options=csv.ReadOptions(use_threads=False),
    )  # fmt: skip
    written = _as_written(first.column_names, ecsv=ecsv)
    head = _as_table(first.slice(0, 2000), told, written)
    numeric = {name for name in head.colnames if head[name].dtype.kind in "iuf"}

    def blocks(wanted: Collection[str], text: Collection[str]) -> Iterator[Table]:
        names = [name for name in head.colnames if name in wanted]
        types = {
            written[n].name: pa.float64() if n in numeric and n not in text else pa.string()
            for n in names
        }
        reader = csv.open_csv(
            path,
            read_options=csv.ReadOptions(
                skip_rows=above, use_threads=False, block_size=_TEXT_BLOCK_BYTES
            ),
            parse_options=parse,
            convert_options=csv.ConvertOptions(
                null_values=_NOTHING, strings_can_be_null=True, include_columns=list(types),
                column_types=types, decimal_point=point,
            ),
        )  # fmt: skip
        for batches in _in_blocks(reader):
            own = {name: written[name] for name in names}
            yield _as_table(pa.Table.from_batches(batches), told, own)

    return _table_file(path.name, head, blocks)


def _delimiter(line: bytes) -> str:
    """What parts the names of a table of text: spreadsheets of countries that write numbers with
    commas take semicolons, others tabs.
    """
    return max((",", ";", "\t"), key=lambda one: line.count(one.encode()))


def _decimal_point(rows: Sequence[bytes], delimiter: str) -> str:
    """What the numbers of some rows have before their fraction."""
    if delimiter == ",":
        return "."
    cells = [
        cell for row in rows[:_TOLD_ROWS] for cell in row.decode(errors="replace").split(delimiter)
    ]
    commas, points = (
        sum(re.fullmatch(rf"[-+]?\d*{mark}\d+", cell.strip(' "\r\n')) is not None for cell in cells)
        for mark in (",", r"\.")
    )
    return "," if commas > points else "."


class _Written(NamedTuple):
    """A column as a file names it, and the unit that its name gives."""

    name: str
    unit: str = ""


def _as_written(names: Sequence[str], *, ecsv: bool) -> dict[str, _Written]:
    """The columns of a file by the names without units in brackets, as in "RA (deg)"."""
    found: dict[str, _Written] = {}
    for name in names:
        match = None if ecsv else _WITH_UNIT.match(name)
        unit = _UNITS.get(match[2].strip().lower()) if match else None
        plain = match[1] if match and unit is not None else name
        if plain in found or (plain != name and plain in names):
            plain, unit = name, None
        found[plain] = _Written(name, unit or "")
    return found


def _in_blocks(reader: csv.CSVStreamingReader) -> Iterator[list[pa.RecordBatch]]:
    """As many batches at a time as make up a block of rows; none without any row."""
    some: list[pa.RecordBatch] = []
    for batch in reader:
        if batch.num_rows:
            some.append(batch)
        if sum(part.num_rows for part in some) >= BLOCK_ROWS:
            yield some
            some = []
    if some:
        yield some


def _stray(row: csv.InvalidRow) -> str:
    return "skip" if (row.text or "").lstrip().startswith("#") else "error"


def _lines_above(start: bytes) -> int:
    """How many lines of comments and nothing stand above the line of names."""
    for number, line in enumerate(start.splitlines()):
        if line.strip() and not line.startswith(b"#"):
            return number
    raise CatalogueError("the file is empty")


def _as_table(rows: pa.Table, told: Table | None, written: Mapping[str, _Written]) -> Table:
    from astropy.table import MaskedColumn, Table

    table = Table()
    for name, own in written.items():
        column = rows.column(own.name)
        missing = column.is_null().to_numpy(zero_copy_only=False)
        kind = column.type
        if pa.types.is_integer(kind) or pa.types.is_floating(kind):
            values = column.fill_null(0).to_numpy()
        else:
            values = _words(column)
        made = MaskedColumn(values, mask=missing)
        if own.unit:
            made.unit = own.unit
        if told is not None:
            made.unit = told[name].unit
            made.meta = {"ucd": column_of(told[name]).ucd}
        table[name] = made
    return table


def _words(column: pa.ChunkedArray) -> np.ndarray:
    return np.array([str(value) for value in column.fill_null("").to_pylist()]
                    if pa.types.is_string(column.type)
                    else ["" if v is None else str(v) for v in column.to_pylist()])  # fmt: skip


def _plain(error: Exception) -> str:
    return str(error).replace("CSV conversion error to double: invalid value", "no number:")[:200]
