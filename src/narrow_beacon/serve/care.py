"""What keeps an observatory's records well: the doctor, backups, and bringing one back."""

from __future__ import annotations

import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.words import counted
from narrow_beacon.serve.alone import RunsAlreadyError, alone
from narrow_beacon.serve.debian import need_database
from narrow_beacon.serve.mariadb import MariaDb
from narrow_beacon.serve.places import Places
from narrow_beacon.store.backup import load_records, unpack_backup, write_backup
from narrow_beacon.store.database import Store
from narrow_beacon.store.doctor import Doctor, Finding

Say = Callable[[str], None]


class NothingKeptError(BeaconError):
    """There are no records yet."""


@contextmanager
def opened(places: Places) -> Iterator[tuple[Store, bool]]:
    """The records, and whether the application runs on them in this moment.

    Raises NothingKeptError where it was never started here.
    """
    try:
        with alone(places.var):
            url = os.environ.get("BEACON_DATABASE_URL")
            if url:
                yield _store(url, places), False
                return
            if not (places.var / "mariadb" / "data" / "mysql").is_dir():
                raise NothingKeptError(f"There are no records in {places.var} yet.")
            need_database()
            with MariaDb(places.var / "mariadb") as database:
                yield _store(database.url, places), False
    except RunsAlreadyError:
        told = json.loads((places.var / "secrets" / "server.json").read_text())
        yield _store(told["database_url"], places), True


def _store(url: str, places: Places) -> Store:
    return Store(url, places.data)


def doctor(places: Places, *, mend: bool, hashes: bool) -> Iterator[Finding]:
    """What is not as it should be. Raises NothingKeptError."""
    for folder in (places.var, places.data, places.var / "secrets"):
        if folder.is_dir() and folder.stat().st_mode & 0o077:
            if mend:
                folder.chmod(0o700)
            yield Finding(f"others may look into {folder}", mend)
    with opened(places) as (store, busy):
        yield from Doctor(store, mend=mend, busy=busy, hashes=hashes).look()
        store.engine.dispose()


def backup(places: Places, path: Path, say: Say) -> None:
    """Write everything that is kept into one file. Raises BeaconError, OSError."""
    with opened(places) as (store, _):
        write_backup(store, path, say)
        store.engine.dispose()


def restore(places: Places, path: Path, say: Say) -> None:
    """Bring a backup back. What is there now is moved aside, never overwritten.

    Raises BeaconError while the application runs, or where the file is no whole backup.
    """
    if os.environ.get("BEACON_DATABASE_URL"):
        raise BeaconError(
            "A backup goes into the records that ./beacon start keeps itself: unset "
            "BEACON_DATABASE_URL, or load it into your server by hand (docs/formats.md)."
        )
    try:
        with alone(places.var):
            need_database()
            _restore(places, path, say)
    except RunsAlreadyError as error:
        raise BeaconError("Narrow Beacon runs here: stop it first (Ctrl+C there).") from error


def _restore(places: Places, path: Path, say: Say) -> None:
    os.umask(0o077)
    fresh = places.var / "restored.new"
    shutil.rmtree(fresh, ignore_errors=True)
    try:
        (fresh / "backup").mkdir(parents=True, mode=0o700)
        manifest = unpack_backup(path, fresh / "backup")
        say(f"the backup of {manifest['made']} is whole")
        with MariaDb(fresh / "mariadb") as database:
            load_records(database.url, fresh / "backup" / "records", manifest, places.data)
        say(f"{sum(manifest['tables'].values())} records are back")
        (fresh / "backup" / "data").mkdir(exist_ok=True)
        aside = places.var / time.strftime("before-restore-%Y-%m-%d-%H%M%S")
        for now in (places.var / "mariadb", places.data):
            if now.exists():
                aside.mkdir(mode=0o700, exist_ok=True)
                shutil.move(now, aside / now.name)
        shutil.move(fresh / "mariadb", places.var / "mariadb")
        shutil.move(fresh / "backup" / "data", places.data)
        for folder in (places.var, places.data):
            folder.chmod(0o700)
        say(f"{counted(len(manifest['files']), 'file is', 'files are')} back")
        if aside.exists():
            say(f"what was there before is in {aside}; delete it when all is well")
    finally:
        shutil.rmtree(fresh, ignore_errors=True)
