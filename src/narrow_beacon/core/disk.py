"""What an error of the operating system means for the observer: a full disk, a shut folder."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from narrow_beacon.core.errors import BeaconError

FULL = {errno.ENOSPC, errno.EDQUOT}
NOT_THE_FILE = FULL | {errno.EROFS, errno.EMFILE, errno.ENFILE}
"""What befalls any file, whatever is in it."""
_SHUT = {errno.EROFS, errno.EACCES, errno.EPERM}


class DiskError(BeaconError):
    """Something could not be written; says where, why and what to do."""


def disk_words(error: OSError, place: Path | str = "") -> str:
    """What, why and what to do."""
    where = error.filename or place or "a file"
    if error.errno in FULL:
        return (
            f"The disk is full: {where} could not be written. What was done before holds. Make "
            "room, then start the same again."
        )
    if error.errno in _SHUT:
        return (
            f"{where} may not be written or read: {error.strerror}. Give its owner's rights back, "
            "or mount it for writing, then start the same again."
        )
    return f"{where}: {error.strerror or error}. What was done before holds; start the same again."


@contextmanager
def replaced_folder(folder: Path) -> Iterator[Path]:
    """An empty folder beside another one, which takes its place once it is whole and is gone where
    that fails.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    scratch = folder.with_name(f".{folder.name}.{os.getpid()}")
    shutil.rmtree(scratch, ignore_errors=True)
    scratch.mkdir()
    try:
        yield scratch
        if folder.exists():
            old = folder.with_name(f".{folder.name}.{os.getpid()}.old")
            folder.rename(old)
            scratch.rename(folder)
            shutil.rmtree(old)
        else:
            scratch.rename(folder)
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
