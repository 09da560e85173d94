"""What goes wrong with one file stays with that file: in words, with the rest of it in the log."""

from __future__ import annotations

import logging
import os

from narrow_beacon.core.disk import NOT_THE_FILE, DiskError, disk_words
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import LOG_VARIABLE

log = logging.getLogger(__name__)


def words_of(error: Exception, doing: str, name: str) -> str:
    """Words for the observer on what failed while ``doing`` something to a file, chain or group.

    Errors that were meant for the observer speak for themselves; any other one is the program's
    own, and its whole trace goes to the log. Raises DiskError where the disk is full: that is no
    fault of the file, and without a master the numbers would be others.
    """
    if isinstance(error, DiskError):
        raise error
    if isinstance(error, OSError) and error.errno in NOT_THE_FILE:
        raise DiskError(disk_words(error)) from error
    if isinstance(error, BeaconError):
        return str(error)
    if isinstance(error, OSError):
        return f"{doing} {name} failed: {error.strerror or error}"
    path = os.environ.get(LOG_VARIABLE)
    if path and not log.handlers:
        log.addHandler(logging.FileHandler(path, delay=True))
    log.error("%s %s failed", doing, name, exc_info=error)
    return f"an error of the program while {doing} {name}: {type(error).__name__}: {error}"
