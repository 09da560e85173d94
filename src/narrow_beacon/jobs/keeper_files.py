"""What a job's walk reads and sorts, kept in the records of its campaign."""

from __future__ import annotations

from collections.abc import Sequence, Set
from pathlib import Path

from sqlalchemy import update

from narrow_beacon.core.frames.frame import Correction, RawFile
from narrow_beacon.jobs.work import Work
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.sorting import SortedFiles
from narrow_beacon.store.campaigns import plan_of
from narrow_beacon.store.files import (
    add_raw_files,
    known_files,
    listed_files,
    state_of,
    write_sorted,
)
from narrow_beacon.store.models import NightFile
from narrow_beacon.store.moved import follow_moved
from narrow_beacon.store.since import in_force
from narrow_beacon.store.targets import Asked


class KeepsFiles(Keeper):
    """Keeps what is known of a campaign's files in its records."""

    def __init__(self, work: Work) -> None:
        self._work = work
        self.gate = work.gate
        self._ids: dict[str, int] = {}
        self._in_force: Set[int] = frozenset()
        self._asked: Asked | None = None

    def plan(self) -> Plan:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            # Whatever comes from now on may or may not reach what is measured.
            self._in_force = in_force(session, campaign)
            self._asked = Asked.of(campaign)
            plan = plan_of(session, campaign, self._work.folder("exports"))
        if plan.library is not None:
            self.gate.check(plan.library)
        return plan

    def folder(self, what: str) -> Path:
        return self._work.folder(what)

    def fresh(self, paths: Sequence[Path]) -> list[Path]:
        with self._work.store.session() as session:
            known = {
                file.path: (file.size, file.modified_ns)
                for file in listed_files(session, self._work.campaign(session))
                if not file.away
            }
        changed = [path for path in paths if known.get(str(path)) != state_of(path)]
        return [path for path in changed if not self._work.holds(path)]

    def keep_files(self, read: Sequence[tuple[Path, RawFile]]) -> None:
        with self._work.store.session() as session:
            add_raw_files(session, self._work.campaign(session), read)

    def keep_missing(self, paths: Sequence[Path]) -> None:
        there = {str(path) for path in paths}
        with self._work.store.session() as session:
            other = [
                {"id": file.id, "away": not file.away}
                for file in listed_files(session, self._work.campaign(session))
                if file.away == (file.path in there)
            ]
            if other:
                session.execute(update(NightFile), other)

    def follow_moved(self) -> bool:
        with self._work.store.session() as session:
            return follow_moved(session, self._work.campaign(session))

    def files(self) -> tuple[list[RawFile], dict[str, Correction]]:
        with self._work.store.session() as session:
            known = known_files(session, self._work.campaign(session))
        self._ids = known.ids
        return known.raws, known.words

    def keep_sorted(self, files: SortedFiles) -> None:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            before = Asked.of(campaign)
            write_sorted(session, campaign, files, self._ids)
            if before == self._asked:  # what headers say of the target is asked for from now on
                self._asked = Asked.of(campaign)
            campaign.revision += 1

    def keep_first_look(self, files: SortedFiles) -> None:
        self.keep_sorted(files)
        self._work.reporter.changed()
