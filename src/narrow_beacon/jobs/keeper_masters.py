"""What a job's walk corrects with, and the stars that it looks for, kept in the records of its
campaign.
"""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, select

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.jobs.keeper_files import KeepsFiles
from narrow_beacon.reduce.chains import BuiltChains
from narrow_beacon.reduce.codec import dump, load
from narrow_beacon.reduce.field import Field
from narrow_beacon.reduce.flat_remarks import FlatsCompared
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.store.campaigns import (
    OF_CALIBRATION,
    calibration_print,
    now,
)
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.files import told_of
from narrow_beacon.store.kits import kits_of, kits_to_json
from narrow_beacon.store.models import ChainRecord, DefectMap, MasterRecord
from narrow_beacon.store.pieces import write_text
from narrow_beacon.store.shelf import lasting_masters
from narrow_beacon.store.since import tell_changes
from narrow_beacon.store.targets import Asked


class KeepsMasters(KeepsFiles):
    """Keeps masters, chains and the field in a campaign's records, too."""

    def shelf(self) -> list[MasterFile]:
        with self._work.store.session() as session:
            return lasting_masters(session, self._work.campaign(session))

    def masters_known(self) -> Mapping[Path, MasterFacts]:
        own = select(MasterRecord).where(MasterRecord.campaign_id == self._work.campaign_id)
        with self._work.store.session() as session:
            return {Path(r.path): load(MasterFacts, r.facts) for r in session.scalars(own)}

    def flats_compared(self, name: str) -> FlatsCompared | None:
        path = self._work.folder("flats") / f"{name}.json"
        return load(FlatsCompared, path.read_text()) if path.exists() else None

    def keep_flats_compared(self, name: str, found: FlatsCompared) -> None:
        write_text(self._work.folder("flats") / f"{name}.json", dump(found))

    def keep_masters(self, masters: Sequence[MasterFile]) -> None:
        with self._work.store.session() as session:
            known = {
                record.path: record
                for record in session.scalars(
                    select(MasterRecord).where(MasterRecord.campaign_id == self._work.campaign_id)
                )
            }
            for master in masters:
                path, facts = str(master.path), dump(master.facts)
                made = datetime.fromtimestamp(master.path.stat().st_mtime, UTC)
                record = known.pop(path, None)
                if record is None:
                    record = MasterRecord(campaign_id=self._work.campaign_id, path=path)
                    session.add(record)
                record.label, record.facts = master.facts.label, facts
                record.made = made.replace(tzinfo=None)
            for gone in known.values():
                session.delete(gone)
        there = {master.path for master in masters}
        for file in self._work.folder("masters").glob("*.fits"):
            if file not in there:
                file.unlink()

    def keep_chains(self, chains: BuiltChains) -> None:
        number = self._work.campaign_id
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            old = session.scalars(
                select(ChainRecord).where(ChainRecord.campaign_id == number)
            ).all()
            before = {record.name: record.fingerprint for record in old}
            reports = {name: dump(report) for name, report in chains.reports.items()}
            same = {
                r.name
                for r in old
                if (r.report, r.fingerprint) == (reports.get(r.name), chains.prints.get(r.name))
            }
            gone = [record.id for record in old if record.name not in same]
            session.execute(delete(DefectMap).where(DefectMap.chain_id.in_(gone)))
            session.execute(delete(ChainRecord).where(ChainRecord.id.in_(gone)))
            for name, report in chains.reports.items():
                if name in same:
                    continue
                record = ChainRecord(
                    campaign_id=number, name=name, report=reports[name],
                    fingerprint=chains.prints[name],
                )  # fmt: skip
                session.add(record)
                session.flush()
                path = str(Path(report.folder) / "defects.npy")
                session.add(DefectMap(chain_id=record.id, path=path, count=report.defects))
            if campaign.kits is None:
                # From now on it stays, whatever is said in the kits' other campaigns.
                campaign.kits = kits_to_json(kits_of(session, campaign), taken=True)
            tell_changes(session, campaign)
            frames = told_of(session, campaign, *OF_CALIBRATION)
            campaign.masters_with = calibration_print(campaign, frames)
            campaign.revision += 1
        # What was in force until now is kept too: an image of it may just be made.
        in_use = {name[:16] for name in (*chains.prints.values(), *before.values())}
        for folder in self._work.folder("chains").iterdir():
            if folder.name not in in_use:
                shutil.rmtree(folder, ignore_errors=True)

    def keep_field(self, field: Field) -> None:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            if campaign.catalogue_id is not None and not field.added:
                return
            if self._asked and Asked.of(campaign).catalogue != self._asked.catalogue:
                return  # the observer chose another meanwhile
            looked_up = campaign.catalogue_id is None
            name = " and ".join(field.origins) or "catalogue"
            name = f"{campaign.name} with target" if field.added else name
            origin = "" if field.added else campaign.cone_url or ""
            fetched = now() if looked_up else None
            stars = field.stars
            campaign.catalogue_id = save_catalogue(session, stars, name, origin, fetched=fetched).id
            if self._asked:
                self._asked = replace(self._asked, catalogue=Asked.of(campaign).catalogue)
