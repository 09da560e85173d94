"""What an error of the operating system means for the observer: a full disk, a shut folder."""

from __future__ import annotations

import errno
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
