"""Hold the data folder against the records: what is missing, what is left over, what is half."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pyarrow.parquet as pq
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import delete, select, text, update
from sqlalchemy.orm import Session

from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.structure import opened
from narrow_beacon.core.words import counted
from narrow_beacon.store.database import Store, migrations
from narrow_beacon.store.models import (
    Campaign,
    CensusFile,
    ChainRecord,
    DefectMap,
    Job,
    MasterRecord,
    NightFile,
    Report,
)

_LEAST_FREE_BYTES = 1_000_000_000
_HALF = (".new", ".sent-")
_MADE = ("masters", "flats", "chains", "census", "parts", "probes", "scratch")


@dataclass(frozen=True)
class Finding:
    """Something that is not as it should be; ``mended``: it is now."""

    words: str
    mended: bool = False


class Doctor:
    """Looks, and with ``mend`` puts right what can be made again; never touches a raw file, an
    upload or an export. ``busy``: the application runs, so that nothing is touched at all.
    """

    def __init__(self, store: Store, *, mend: bool, busy: bool, hashes: bool) -> None:
        self._store, self._busy, self._hashes = store, busy, hashes
        self._mend = mend and not busy

    def look(self) -> Iterator[Finding]:
        """All that is found, place by place."""
        yield from self._database()
        yield from self._room()
        with self._store.session() as session:
            for campaign in session.scalars(select(Campaign).order_by(Campaign.id)):
                yield from self._made(session, campaign)
                yield from self._raw(session, campaign)
                yield from self._reports(session, campaign)
            yield from self._left_over(session)

    def _database(self) -> Iterator[Finding]:
        with self._store.engine.connect() as connection:
            now = MigrationContext.configure(connection).get_current_revision()
            newest = ScriptDirectory.from_config(migrations(self._store.url)).get_current_head()
            if now != newest:
                yield Finding(f"the records are of version {now}, not {newest}: start once")
            if connection.dialect.name == "mysql":
                for name in connection.scalars(text("SHOW TABLES")).all():
                    row = connection.execute(text(f"CHECK TABLE `{name}`")).all()[-1]
                    if row[3] != "OK":
                        yield Finding(f"MariaDB on its table {name}: {row[3]}")
        if not self._busy:
            with self._store.session() as session:
                running = session.scalars(select(Job.id).where(Job.state == "running")).all()
            if running:
                yield Finding(
                    f"{counted(len(running), 'job')} did not end: goes on at the next start"
                )

    def _room(self) -> Iterator[Finding]:
        free = shutil.disk_usage(self._store.data).free
        if free < _LEAST_FREE_BYTES:
            yield Finding(f"only {free / 1e6:.0f} MB are free at {self._store.data}: make room")

    def _made(self, session: Session, campaign: Campaign) -> Iterator[Finding]:
        """Masters, chains and censuses: what is missing or broken is made again by the next job."""
        name, number = campaign.name, campaign.id
        for master in session.scalars(
            select(MasterRecord).where(MasterRecord.campaign_id == number)
        ):
            wrong = _wrong_fits(Path(master.path))
            if wrong:
                if self._mend:
                    session.delete(master)
                    campaign.masters_with = ""
                    Path(master.path).unlink(missing_ok=True)
                yield Finding(f"{name}: the master {master.label} {wrong}", self._mend)
        for chain in session.scalars(select(ChainRecord).where(ChainRecord.campaign_id == number)):
            maps = session.scalars(select(DefectMap.path).where(DefectMap.chain_id == chain.id))
            if any(not Path(path).is_file() for path in maps):
                if self._mend:
                    session.execute(delete(DefectMap).where(DefectMap.chain_id == chain.id))
                    session.delete(chain)
                    campaign.masters_with = ""
                yield Finding(f"{name}: the planes of {chain.name} are gone", self._mend)
        for census in session.scalars(select(CensusFile).where(CensusFile.campaign_id == number)):
            wrong = _wrong_parquet(Path(census.path))
            if wrong:
                if self._mend:
                    session.execute(
                        update(NightFile)
                        .where(
                            NightFile.campaign_id == number,
                            NightFile.group_name == census.group_name,
                        )
                        .values(measured_with="")
                    )
                    session.delete(census)
                    Path(census.path).unlink(missing_ok=True)
                yield Finding(f"{name}: the census of {census.group_name} {wrong}", self._mend)

    def _raw(self, session: Session, campaign: Campaign) -> Iterator[Finding]:
        away, other = 0, []
        for file in session.scalars(select(NightFile).where(NightFile.campaign_id == campaign.id)):
            path = Path(file.path)
            if not file.sha256 or file.part == "removed":
                continue
            if not path.is_file():
                away += 1
            elif self._hashes and file_sha256(path) != file.sha256:
                other.append(file.name)
        if away:
            yield Finding(
                f"{campaign.name}: {counted(away, 'raw file')} not there now (a disk that is not "
                "plugged in?); what is known of them is kept"
            )
        if other:
            yield Finding(
                f"{campaign.name}: {counted(len(other), 'raw file')} with other bytes than when "
                f"they were read, {other[0]} first: look at the folders again in Intake"
            )

    def _reports(self, session: Session, campaign: Campaign) -> Iterator[Finding]:
        for report in session.scalars(select(Report).where(Report.campaign_id == campaign.id)):
            gone = [name for name in report.files if not (Path(report.folder) / name).is_file()]
            if gone:
                yield Finding(
                    f"{campaign.name}: {counted(len(gone), 'file')} of the report of "
                    f"{report.created:%d %B %Y, %H:%M} not there any more"
                )

    def _left_over(self, session: Session) -> Iterator[Finding]:
        if self._busy:
            return
        numbers = set(session.scalars(select(Campaign.id)))
        going_on = select(Job.campaign_id).where(Job.state.in_(("running", "waiting")))
        at_work = {f"campaign-{number}" for number in session.scalars(going_on)}
        masters = set(session.scalars(select(MasterRecord.path)))
        censuses = set(session.scalars(select(CensusFile.path)))
        for folder in sorted(self._store.data.glob("campaign-*")):
            known = folder.name.removeprefix("campaign-") in map(str, numbers)
            for path in sorted(folder.rglob("*")):
                if path.is_file() and (path.suffix == _HALF[0] or path.name.startswith(_HALF[1])):
                    yield self._cleared(path, "half written")
            if folder.name in at_work:
                continue  # what it has made is recorded when the job goes on
            if not known:
                for kind in _MADE:
                    if (folder / kind).is_dir():
                        yield self._cleared(folder / kind, "of a campaign that is no more")
                continue
            for path in sorted(folder.glob("masters/*.fits")):
                if str(path) not in masters:
                    yield self._cleared(path, "of no record")
            for path in sorted(folder.glob("census/*")):
                if str(path.with_suffix(".parquet")) not in censuses:
                    yield self._cleared(path, "of no record")

    def _cleared(self, path: Path, words: str) -> Finding:
        if self._mend:
            if path.is_dir():
                shutil.rmtree(path)
            else:
                path.unlink()
        return Finding(f"{path.relative_to(self._store.data)} is {words}", self._mend)


def _wrong_fits(path: Path) -> str:
    if not path.is_file():
        return "is gone"
    try:
        with opened(path):
            return ""
    except UnreadableFileError as error:
        return f"is broken: {str(error).removeprefix(f'{path.name}: ')}"


def _wrong_parquet(path: Path) -> str:
    if not path.is_file():
        return "is gone"
    try:
        pq.read_table(path, columns=["star"])
    except (OSError, ValueError, KeyError) as error:
        return f"is broken: {str(error)[:100]}"
    return ""
