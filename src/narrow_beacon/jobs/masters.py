"""Masters, and the chains that correct each kind of exposure with them."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from narrow_beacon.jobs.work import NotReadyError, Work
from narrow_beacon.reduce.calibrate import (
    MasterFile,
    build_chain,
    build_masters,
    flat_remarks,
    inputs_of,
)
from narrow_beacon.reduce.prepare import chain_calls
from narrow_beacon.store.campaigns import (
    CampaignNights,
    calibration_print,
    changed_after_measuring,
    files_of,
    fingerprint,
    sort_files,
)
from narrow_beacon.store.codec import dump
from narrow_beacon.store.models import ChainRecord, DefectMap, MasterRecord


def renew_masters(work: Work) -> None:
    """Build masters and chains again where the calibration frames are others than they were."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        made = campaign.masters_with
        old = made and made != calibration_print(campaign, files_of(session, campaign))
    if old:
        make_masters(work)


def make_masters(work: Work) -> None:
    """Build masters and the chains that correct each kind of exposure."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        nights = sort_files(session, campaign)
        picks = dict(campaign.picks)
        made_with = calibration_print(campaign, files_of(session, campaign))
    if not nights.night.exposures:
        raise NotReadyError("There are no exposures of the sky yet: point Intake to a folder.")
    work.reporter.start("building masters", 0)
    masters = build_masters(
        nights.night.calibration,
        work.folder("masters"),
        work.folder("scratch"),
        work.pool,
        lambda _: work.reporter.advance(),
        reuse=True,
    )
    remarks = flat_remarks(masters)
    with work.store.session() as session:
        _keep_masters(session, work.campaign_id, masters)
    _build_chains(work, nights, masters, remarks, made_with, picks)


def _keep_masters(session: Session, campaign: int, masters: Sequence[MasterFile]) -> None:
    """Write down what there is now; a master that is the same file as before stays as it was."""
    known = {
        record.path: record
        for record in session.scalars(
            select(MasterRecord).where(MasterRecord.campaign_id == campaign)
        )
    }
    for master in masters:
        path, facts = str(master.path), dump(master.facts)
        made = datetime.fromtimestamp(master.path.stat().st_mtime, UTC).replace(tzinfo=None)
        record = known.pop(path, None)
        if record is None:
            session.add(
                MasterRecord(
                    campaign_id=campaign, label=master.facts.label, path=path, facts=facts,
                    made=made,
                )
            )  # fmt: skip
        else:
            record.label, record.facts, record.made = master.facts.label, facts, made
    for gone in known.values():
        session.delete(gone)


def _build_chains(
    work: Work,
    nights: CampaignNights,
    masters: Sequence[MasterFile],
    remarks: Sequence[str],
    made_with: str,
    picks: dict[str, dict[str, str]],
) -> None:
    calls = chain_calls(nights.night.exposures, masters, work.folder("chains"), picks)
    # A folder per set of masters: an image or a census that is being made keeps its planes.
    prints = {
        plan.name: fingerprint(plan.name, inputs_of(plan, masters), [f.sha256 for f in examples])
        for plan, _, examples, _ in calls
    }
    calls = [
        (plan, masters, examples, work.folder("chains") / prints[plan.name][:16])
        for plan, _, examples, _ in calls
    ]
    work.reporter.start("preparing corrections", len(calls))
    reports = work.pool.map(build_chain, calls, lambda _: work.reporter.advance())
    with work.store.session() as session:
        old = session.scalars(
            select(ChainRecord).where(ChainRecord.campaign_id == work.campaign_id)
        ).all()
        others = any(record.fingerprint != prints.get(record.name) for record in old)
        session.execute(delete(DefectMap).where(DefectMap.chain_id.in_([r.id for r in old])))
        session.execute(delete(ChainRecord).where(ChainRecord.campaign_id == work.campaign_id))
        for report in reports:
            record = ChainRecord(
                campaign_id=work.campaign_id,
                name=report.name,
                report=dump(report),
                fingerprint=prints[report.name],
            )
            session.add(record)
            session.flush()
            session.add(
                DefectMap(
                    chain_id=record.id,
                    path=str(Path(report.folder) / "defects.npy"),
                    count=report.defects,
                )
            )
        campaign = work.campaign(session)
        changed_after_measuring(session, campaign, ["masters"] if others else [])
        campaign.masters_with = made_with
        campaign.remarks = list(remarks)
        campaign.revision += 1
        in_use = {*prints.values(), *(record.fingerprint for record in old)}
    # What was in force until now is kept too: an image of it may just be made.
    for folder in work.folder("chains").iterdir():
        if folder.name not in {name[:16] for name in in_use}:
            shutil.rmtree(folder, ignore_errors=True)
