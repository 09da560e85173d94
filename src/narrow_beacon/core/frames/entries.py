"""What lies below a night's folders: the files, and whatever else has to be said."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from narrow_beacon.core.gate import OPEN, Gate

_IMAGE_ENDS = (".fits", ".fit", ".fts", ".fz", ".fits.gz", ".fit.gz", ".fts.gz")
_MOST_LETTERS = 1000
_SPECIAL = {
    stat.S_IFIFO: "a pipe", stat.S_IFSOCK: "a socket",
    stat.S_IFCHR: "a device", stat.S_IFBLK: "a device",
}  # fmt: skip


@dataclass(frozen=True)
class Entries:
    """Files that can be read, and what cannot with the reason, each in order of name.

    The paths of what cannot be read are printable: bytes that are no UTF-8 are shown as \\xNN.
    """

    files: tuple[Path, ...]
    refused: tuple[tuple[Path, str], ...]


def list_entries(folders: Iterable[Path], gate: Gate = OPEN) -> Entries:
    """All that lies below some folders, and files that are named themselves, hidden things left
    alone, each once; links are followed where the gate lets them through, and none twice.
    """
    files: set[Path] = set()
    refused: dict[Path, str] = {}
    for folder in folders:
        if folder.is_file() and gate.allows(folder):
            files.add(folder)  # a single exposure stands for itself
            continue
        seen: set[tuple[int, int]] = set()
        for path, reason in _walk(folder, gate, seen, ()):
            reason = reason or _unprintable(path)
            if reason:
                refused[printable(path)] = reason
            else:
                files.add(path)
    return Entries(tuple(sorted(files)), tuple(sorted(refused.items())))


def printable(path: Path) -> Path:
    """A path that can be shown and kept: what is no UTF-8 in it becomes \\xNN."""
    return Path(os.fsencode(path).decode("utf-8", "backslashreplace"))


def _unprintable(path: Path) -> str:
    text = str(path)
    try:
        text.encode()
    except UnicodeEncodeError:
        return "its name is not in UTF-8; give it another name"
    if len(text) > _MOST_LETTERS:
        return f"its path has more than {_MOST_LETTERS} letters; move it to a shorter one"
    return ""


def _walk(
    folder: Path, gate: Gate, seen: set[tuple[int, int]], above: tuple[tuple[int, int], ...]
) -> Iterator[tuple[Path, str]]:
    """(path, reason why it cannot be read or "") of all below a folder."""
    if not gate.allows(folder):
        yield folder, "leads out of the folders that may be read"
        return
    try:
        status = folder.stat()
        inside = sorted(os.scandir(folder), key=lambda entry: entry.name)
    except OSError as error:
        if above:
            yield folder, f"a folder that cannot be opened: {error.strerror}"
        return
    own = (status.st_dev, status.st_ino)
    if own in seen:
        return
    seen.add(own)
    for entry in inside:
        if entry.name.startswith("."):
            continue
        path = folder / entry.name
        reason, is_folder, key = _kind(path, entry, gate)
        if is_folder and key in (*above, own):
            yield path, "a link that leads back to a folder above it"
        elif is_folder:
            if path.name.lower().endswith(_IMAGE_ENDS):
                yield path, "a folder, not a file; what is in it is listed by itself"
            yield from _walk(path, gate, seen, (*above, own))
        else:
            yield path, reason


def _kind(
    path: Path, entry: os.DirEntry[str], gate: Gate
) -> tuple[str, bool, tuple[int, int] | None]:
    """Why it cannot be read (or ""), whether it is a folder, and which."""
    try:
        status = entry.stat()
    except FileNotFoundError:
        return (
            ("a link to nothing" if entry.is_symlink() else "gone while it was read"),
            False,
            None,
        )
    except OSError as error:
        return f"cannot be opened: {error.strerror}", False, None
    if stat.S_ISDIR(status.st_mode):
        return "", True, (status.st_dev, status.st_ino)
    if not stat.S_ISREG(status.st_mode):
        words = _SPECIAL.get(stat.S_IFMT(status.st_mode), "no file of a known kind")
        return f"{words}, not a file", False, None
    if entry.is_symlink() and not gate.allows(path):
        return "a link that leads out of the folders that may be read", False, None
    return "", False, None
