"""All that the application keeps as one file, and back again: records, and the data folder.

The file is a tar of our own design (docs/formats.md): ``manifest.json``, ``records/TABLE.jsonl`` as
they were in one moment, and ``data/…``. Raw files below the observer's own folders are not in it.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO

from alembic import command
from sqlalchemy import Connection, MetaData, create_engine, func, select, text

from narrow_beacon import __version__
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.store.database import Store, migrations

FORMAT = "narrow-beacon-backup-1"
_ROWS = 1000
_MOST_TRIES = 3
_LEFT_ALONE = ("scratch",)
_WITH_FILES = ("master", "census_file")
_VERSIONS = "alembic_version"
_STEP = 1 << 20


class BackupError(BeaconError):
    """A backup that cannot be made or brought back; says why."""


class _GoneError(Exception):
    """A file went away between the records and its turn: another moment is taken."""


def write_backup(store: Store, path: Path, say: Callable[[str], None] = lambda _: None) -> None:
    """Write everything into a file, also while jobs run. Raises BackupError, OSError."""
    for _ in range(_MOST_TRIES):
        descriptor, scratch = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}-")
        try:
            with os.fdopen(descriptor, "w+b") as file:
                _write(store, file, packed=path.name.endswith((".gz", ".tgz")), say=say)
                file.flush()
                os.fsync(file.fileno())
            os.replace(scratch, path)
            return
        except _GoneError:
            Path(scratch).unlink()
        except BaseException:
            Path(scratch).unlink(missing_ok=True)
            raise
    raise BackupError(
        "The data folder changes faster than it can be copied; try again when no job runs."
    )


def _write(store: Store, file: BinaryIO, *, packed: bool, say: Callable[[str], None]) -> None:
    manifest: dict[str, Any] = {
        "format": FORMAT, "version": __version__,
        "made": datetime.now(UTC).isoformat("T", "seconds"),
        "data": str(store.data.resolve()), "tables": {}, "files": {},
    }  # fmt: skip
    needed: set[str] = set()
    with tarfile.open(fileobj=file, mode="w:gz" if packed else "w") as archive:
        with store.engine.connect() as connection:
            if connection.dialect.name == "mysql":
                connection.execute(text("START TRANSACTION WITH CONSISTENT SNAPSHOT"))
            for name, lines in _tables(connection):
                content = b"".join(lines)
                manifest["tables"][name] = content.count(b"\n")
                if name == _VERSIONS:
                    manifest["revision"] = json.loads(content.split(b"\n")[0])["version_num"]
                needed |= _paths(name, content)
                _add(archive, f"records/{name}.jsonl", content)
        say(f"{sum(manifest['tables'].values())} records")
        for path in sorted(store.data.rglob("*")):
            inner = path.relative_to(store.data)
            if inner.parts[0] in _LEFT_ALONE or set(inner.parts[1:2]) & set(_LEFT_ALONE):
                continue
            if path.is_symlink() or not path.is_file() or path.name.startswith("."):
                continue
            if path.suffix == ".new":  # being written in this moment
                continue
            manifest["files"][inner.as_posix()] = _add_file(archive, path, f"data/{inner}")
        for name in needed - {str(store.data / name) for name in manifest["files"]}:
            if not Path(name).exists():
                raise _GoneError
        say(f"{len(manifest['files'])} files")
        _add(archive, "manifest.json", json.dumps(manifest, indent=1).encode())


def _paths(table: str, content: bytes) -> set[str]:
    """The files below the data folder that records of a table speak of."""
    if table not in _WITH_FILES:
        return set()
    return {json.loads(line)["path"] for line in content.splitlines()}


def _tables(connection: Connection) -> Iterator[tuple[str, Iterator[bytes]]]:
    known = MetaData()
    known.reflect(connection)
    for table in known.sorted_tables:
        # As the driver has them: a type that is read from the tables makes decimals of doubles.
        quoted = connection.dialect.identifier_preparer.quote(table.name)
        rows = connection.exec_driver_sql(f"SELECT * FROM {quoted}")
        names = list(rows.keys())
        yield table.name, (_line(names, row) for row in rows)


def _line(names: list[str], row: Any) -> bytes:
    values = {
        name: {"datetime": value.isoformat()} if isinstance(value, datetime) else value
        for name, value in zip(names, row, strict=True)
    }
    return json.dumps(values).encode() + b"\n"


def _add(archive: tarfile.TarFile, name: str, content: bytes) -> None:
    item = tarfile.TarInfo(name)
    item.size, item.mode = len(content), 0o600
    archive.addfile(item, io.BytesIO(content))


def _add_file(archive: tarfile.TarFile, path: Path, name: str) -> str:
    """Put a file in; its SHA-256."""
    try:
        with path.open("rb") as file:
            status = os.fstat(file.fileno())
            item = tarfile.TarInfo(name)
            item.size, item.mode, item.mtime = status.st_size, 0o600, status.st_mtime_ns / 1e9
            read = _Hashed(file)
            archive.addfile(item, read)
    except FileNotFoundError as error:
        raise _GoneError from error
    return read.sha256.hexdigest()


class _Hashed:
    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self.sha256 = hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        piece = self._file.read(size)
        self.sha256.update(piece)
        return piece


def unpack_backup(path: Path, folder: Path) -> dict[str, Any]:
    """Unpack into an empty folder and hold everything against the manifest, which is returned.

    Raises BackupError where it is no backup, or not whole.
    """
    found: dict[str, str] = {}
    try:
        with tarfile.open(path) as archive:
            for item in archive:
                inner = Path(item.name)
                if not item.isfile() or inner.is_absolute() or ".." in inner.parts:
                    raise BackupError(f"{path}: holds {item.name[:80]}, which no backup does.")
                found[item.name] = _take_out(archive, item, folder / inner)
    except (tarfile.TarError, EOFError, OSError) as error:
        if isinstance(error, OSError) and error.errno:
            raise
        raise BackupError(f"{path} is no backup, or not whole: {error}.") from error
    try:
        manifest = json.loads((folder / "manifest.json").read_text())
        if manifest["format"] != FORMAT:
            raise BackupError(f"{path}: a backup of another kind, {manifest['format'][:40]}.")
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise BackupError(f"{path} is no backup, or not whole: no manifest.") from error
    broken = [name for name, sha in manifest["files"].items() if found.get(f"data/{name}") != sha]
    broken += [
        name for name, rows in manifest["tables"].items()
        if _count(folder / "records" / f"{name}.jsonl") != rows
    ]  # fmt: skip
    if broken:
        raise BackupError(f"{path} is damaged: {', '.join(broken[:5])} are not as they were.")
    return manifest


def _take_out(archive: tarfile.TarFile, item: tarfile.TarInfo, path: Path) -> str:
    path.parent.mkdir(parents=True, exist_ok=True)
    source = archive.extractfile(item)
    assert source is not None
    sha256 = hashlib.sha256()
    with path.open("xb") as file:
        while piece := source.read(_STEP):
            file.write(piece)
            sha256.update(piece)
    os.utime(path, (item.mtime, item.mtime))
    return sha256.hexdigest()


def _count(path: Path) -> int:
    if not path.is_file():
        return -1
    with path.open("rb") as file:
        return sum(1 for _ in file)


def load_records(url: str, records: Path, manifest: dict[str, Any], data: Path) -> None:
    """Fill an empty database with the records of a backup, for a data folder that may lie
    elsewhere now, and bring them up to date. Raises BackupError where there are records already.
    """
    engine = create_engine(url)
    try:
        with engine.connect() as connection:
            there = MetaData()
            there.reflect(connection)
            for table in there.sorted_tables:
                if connection.scalar(select(func.count()).select_from(table)):
                    raise BackupError("There are records already; they stay as they are.")
        command.upgrade(migrations(url), manifest["revision"])
        moved = _Moved(manifest["data"], str(data.resolve()))
        with engine.begin() as connection:
            tables = MetaData()
            tables.reflect(connection)
            if connection.dialect.name == "mysql":
                connection.execute(text("SET foreign_key_checks = 0"))
            for table in tables.sorted_tables:
                if table.name == _VERSIONS or table.name not in manifest["tables"]:
                    continue
                for rows in _batches(records / f"{table.name}.jsonl", moved):
                    connection.execute(table.insert(), rows)
        command.upgrade(migrations(url), "head")
    finally:
        engine.dispose()


def _batches(path: Path, moved: _Moved) -> Iterator[list[dict[str, Any]]]:
    batch: list[dict[str, Any]] = []
    with path.open(encoding="utf-8") as file:
        for line in file:
            batch.append(moved.row(json.loads(line)))
            if len(batch) == _ROWS:
                yield batch
                batch = []
    if batch:
        yield batch


class _Moved:
    """Rows as they are for a data folder that lies elsewhere."""

    def __init__(self, old: str, new: str) -> None:
        self._pairs = [(f"{old}/", f"{new}/")]
        if json.dumps(old)[1:-1] != old:  # as it stands within JSON
            self._pairs.append((f"{json.dumps(old)[1:-1]}/", f"{json.dumps(new)[1:-1]}/"))

    def row(self, values: dict[str, Any]) -> dict[str, Any]:
        """A row with its times, and with the paths below the data folder as they are now."""
        changed = {name: self._value(value) for name, value in values.items()}
        if "path_sha256" in changed and changed["path"] != values["path"]:
            changed["path_sha256"] = hashlib.sha256(changed["path"].encode()).hexdigest()
        return changed

    def _value(self, value: Any) -> Any:
        if isinstance(value, dict):
            return datetime.fromisoformat(value["datetime"])
        if isinstance(value, str):
            for old, new in self._pairs:
                value = value.replace(old, new)
        return value
