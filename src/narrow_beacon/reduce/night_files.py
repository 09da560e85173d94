"""The files of a night: found below its folders, read, and named by their content."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.entries import Entries, list_entries
from narrow_beacon.core.frames.fits_file import pixels_print
from narrow_beacon.core.frames.frame import Correction, RawFile
from narrow_beacon.core.frames.sort import twins
from narrow_beacon.core.gate import Gate
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.dealing import in_tasks, some_at_a_time
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.progress import Progress
from narrow_beacon.reduce.reading import hash_files, read_raw_files
from narrow_beacon.reduce.sorting import inspected, sort_raw_files
from narrow_beacon.reduce.workers import Pool
from narrow_beacon.rescue import Rescue

_SEEN_FIRST = 40
"""Files from which on they are sorted before they are hashed."""


class NightFiles:
    """What is known of the files below a plan's folders, in the keeper's hands."""

    def __init__(self, keeper: Keeper, plan: Plan, pool: Pool, progress: Progress) -> None:
        self.keeper, self.plan, self.pool, self.progress = keeper, plan, pool, progress
        self._known: tuple[list[RawFile], dict[str, Correction]] | None = None

    def read(self) -> None:
        """Read every file below the folders that is new or has changed."""
        self._known = None
        entries = night_entries(self.plan, self.keeper.gate)
        paths = entries.files
        fresh = self.keeper.fresh(paths)
        named = [(path, relative_name(path, self.plan.base)) for path in fresh]
        self.progress.start("sorting files", len(paths), len(paths) - len(fresh))

        def keep(some: list[tuple[Path, RawFile]]) -> None:
            self.keeper.keep_files(some)
            self.progress.advance(len({path for path, _ in some}))

        calls = [(part,) for part in in_tasks(named, lambda one: one[0])]
        with some_at_a_time(keep) as take:
            self.pool.each(_read_with_paths, calls, take, _READING)
        refused = [
            (path, RawFile(relative_name(path, self.plan.base), "", None, None, reason))
            for path, reason in entries.refused
        ]
        self.keeper.keep_files(refused)
        self.keeper.keep_missing([*paths, *(path for path, _ in refused)])
        self._name_by_content()
        if self.keeper.follow_moved():
            self._known = None
        self._tell_twins()
        outside = [folder for folder in self.plan.folders if not self.keeper.gate.allows(folder)]
        remarks = [
            Remark(
                "intake", f"{folder} is outside of the folders that may be read",
                matters="what lies there takes no part; what is known of it is kept",
                remedy=f"start with ./beacon start --allow {folder}",
            )
            for folder in outside
        ]  # fmt: skip
        if not paths and not outside:
            folders = ", ".join(str(folder) for folder in self.plan.folders)
            words = f"there are no files below {folders}"
            remarks = [
                Remark("intake", words, matters="nothing to reduce", remedy="name another folder")
            ]
        self.keeper.keep_remarks("read", remarks)

    def named(self) -> tuple[list[RawFile], dict[str, Correction]]:
        """What headers and the observer say of all files by now, each named by its content."""
        self._known = None
        if any(_unnamed(raw) for raw in self._told()[0]):
            self._name_by_content()  # whoever read them was stopped on the way
            self._known = None
        told = self._told()
        self._known = None
        return told

    def _told(self) -> tuple[list[RawFile], dict[str, Correction]]:
        """What headers and the observer say of all files, asked for once while they are read."""
        if self._known is None:
            self._known = self.keeper.files()
        return self._known

    def _know(self, told: Sequence[tuple[Path, RawFile]]) -> None:
        """More is known, and kept, of some of them."""
        raws, words = self._told()
        more = {raw.name: raw for _, raw in told}
        self._known = [more.get(raw.name, raw) for raw in raws], words

    def _name_by_content(self) -> None:
        """Hash the files that are not named by their content yet. Of many that takes longer than
        to sort them, so that they are sorted before it, to be seen at once.
        """
        raws, words = self._told()
        if not any(_unnamed(raw) for raw in raws):
            return
        unnamed: dict[Path, list[RawFile]] = {}
        for raw in raws:
            if raw.source is not None and _unnamed(raw):
                unnamed.setdefault(raw.source.path, []).append(raw)
        if len(unnamed) > _SEEN_FIRST:
            self.keeper.keep_first_look(sort_raw_files(self.plan, raws, words))
        self.progress.start("naming files by their content", len(unnamed))
        told: list[tuple[Path, RawFile]] = []

        def keep(some: list[tuple[Path, str]]) -> None:
            named = [
                (path, replace(raw, sha256=sha256))
                for path, sha256 in some
                for raw in unnamed[path]
            ]
            self.keeper.keep_files(named)
            told.extend(named)
            self.progress.advance(len(some))

        calls = [(part,) for part in in_tasks(list(unnamed), lambda path: path)]
        with some_at_a_time(keep) as take:
            self.pool.each(hash_files, calls, take)
        self._know(told)

    def _tell_twins(self) -> None:
        """Look at the pixels of files that may be one exposure, stored in several ways."""
        raws, words = self._told()
        by_name = {raw.name: raw for raw in raws}
        for frame in twins(inspected(self.plan, raws, words)):
            if frame.pixels_print:
                continue
            try:
                told = replace(by_name[frame.name], pixels_print=pixels_print(frame.source))
            except (UnreadableFileError, OSError):
                continue  # what is wrong with it is said where it is used
            self.keeper.keep_files([(frame.source.path, told)])
            self._know([(frame.source.path, told)])


def _unnamed(raw: RawFile) -> bool:
    return raw.source is not None and not raw.sha256


def night_entries(plan: Plan, gate: Gate) -> Entries:
    """What lies below a plan's folders, without its output and its library."""
    made = [plan.output.resolve(), *([plan.library.resolve()] if plan.library else [])]
    found = list_entries(plan.folders, gate)
    return replace(
        found,
        files=tuple(p for p in found.files if not any(m in p.resolve().parents for m in made)),
    )


def relative_name(path: Path, base: Path) -> str:
    """The path as seen from the plan's folder; links keep the name that the observer gave."""
    return Path(os.path.relpath(path, base)).as_posix()


def _read_with_paths(named: list[tuple[Path, str]]) -> list[tuple[Path, RawFile]]:
    return [
        (path, raw) for path, name in named for raw in read_raw_files([(path, name)], hashed=False)
    ]


def _unread(call: tuple[Any, ...], words: str) -> list[tuple[Path, RawFile]]:
    ((path, name),) = call[0]
    return [(path, RawFile(name, "", None, None, words))]


_READING = Rescue(
    lambda call: [([one],) for one in call[0]],
    _unread,
    lambda parts: [one for part in parts for one in part],
)
