"""After the census: the first cast, the radius, and proposals of what to set aside."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from narrow_beacon.core.errors import CatalogueError, NotMeasurableError
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.jobs.proposals import set_proposal
from narrow_beacon.jobs.ready import Prepared, prepare
from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.curves import FilterCurve, make_curve
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.store.actions import Change, act, new_cast, new_recipe
from narrow_beacon.store.campaigns import files_of
from narrow_beacon.store.codec import quality_from_json
from narrow_beacon.store.measured import filter_table
from narrow_beacon.store.models import Campaign, CastRecord, NightFile


def settle(work: Work, *, accept: bool) -> None:
    """Make the curves as the program would; take cast and radius from them where there are none.

    What the curves would leave out becomes a proposal, or with ``accept`` is set aside at once,
    as one action that can be undone. The observer's own decisions stay.
    """
    ready = prepare(work)
    if not ready.target_known:
        with work.store.session() as session:
            campaign = work.campaign(session)
            campaign.remarks = list(dict.fromkeys([*campaign.remarks, *ready.remarks]))
            campaign.revision += 1
        return
    with work.store.session() as session:
        campaign = work.campaign(session)
        files = {file.id: file for file in files_of(session, campaign)}
        work.reporter.start("making the curve", len(ready.context.bands))
        curves, remarks = _curves(work, session, campaign, ready, files)
        if curves and campaign.cast_id is None:
            _first_cast(session, campaign, ready, curves)
        if curves and campaign.recipe_id is None:
            steps = {curve.filter: curve.choice.step for curve in curves}
            recipe = new_recipe(session, campaign, steps, True, (3.5, 5.5))
            campaign.recipe_id = recipe.id
        reasons = {
            ready.file_id(index): reason
            for curve in curves
            for index, reason in curve.set_aside.items()
        }
        for file in files.values():
            if file.part == "exposure":
                set_proposal(file, reasons.get(file.id, file.proposal))
        if accept:
            accept_proposals(session, campaign, list(files.values()))
        dropped = [
            f"comparison star {d.name} dropped: {d.reason}"
            for curve in curves
            for d in curve.cast.dropped
        ]
        campaign.remarks = list(dict.fromkeys([*campaign.remarks, *remarks, *dropped]))
        campaign.revision += 1


def accept_proposals(session: Session, campaign: Campaign, files: Sequence[NightFile]) -> int:
    """Set aside whatever is proposed among some files, as one action; how many."""
    some = [file for file in files if file.proposal]
    changes = []
    for file in some:
        changes += [
            Change("file", file.id, "aside_reason", file.proposal),
            Change("file", file.id, "aside_by", "program"),
            Change("file", file.id, "proposal", ""),
        ]
    if changes:
        count = f"{len(some)} exposure{'s' if len(some) > 1 else ''}"
        act(session, campaign, f"set aside {count} as proposed", changes)
    return len(some)


def _curves(
    work: Work,
    session: Session,
    campaign: Campaign,
    ready: Prepared,
    files: dict[int, NightFile],
) -> tuple[list[FilterCurve], list[str]]:
    """The curves of all filters, the one with most exposures first, and what stood in the way."""
    jobs = {job.index: job for job in ready.jobs}
    index_of = {ready.file_id(index): index for index in jobs}
    names = sorted(
        ready.context.bands, key=lambda name: -sum(j.frame.filter == name for j in ready.jobs)
    )
    comparison, check, remarks = _wanted(session, campaign, ready)
    curves: list[FilterCurve] = []
    for name in names:
        work.reporter.advance()
        table = filter_table(session, campaign.id, name)
        if table is None:
            continue
        results = [
            _result(files[number], index_of[number], table.exposure(at))
            for at, number in enumerate(table.file_ids)
            if number in index_of and not files[number].trouble
            and files[number].aside_by != "observer"
        ]  # fmt: skip
        if not results:
            continue
        settled = check if check is not None else (curves[0].cast.check if curves else None)
        try:
            curves.append(
                make_curve(
                    name,
                    ready.context.bands[name],
                    results,
                    {index: job.group for index, job in jobs.items()},
                    {index: job.frame.exposure_s for index, job in jobs.items()},
                    {index: job.airmass for index, job in jobs.items()},
                    ready.stars,
                    ready.target,
                    comparison,
                    settled,
                    None,
                )
            )
        except NotMeasurableError as error:
            remarks.append(str(error))
    return curves, remarks


def _wanted(
    session: Session, campaign: Campaign, ready: Prepared
) -> tuple[list[int], int | None, list[str]]:
    """Rows of the cast in force, else of the names that came with a plan."""
    if campaign.cast_id:
        cast = session.get_one(CastRecord, campaign.cast_id)
        return list(cast.comparison), cast.check_star, []
    rows: list[int] = []
    remarks: list[str] = []
    for name in campaign.wanted_comparison:
        try:
            rows.append(ready.stars.row(name))
        except CatalogueError as error:
            remarks.append(str(error))
    check = None
    if campaign.wanted_check:
        try:
            check = ready.stars.row(campaign.wanted_check)
        except CatalogueError as error:
            remarks.append(str(error))
    return rows, check, remarks


def _first_cast(
    session: Session, campaign: Campaign, ready: Prepared, curves: Sequence[FilterCurve]
) -> None:
    """One cast for all filters: comparison stars that serve in each, the first filter's else."""
    first = curves[0].cast
    everywhere = [row for row in first.comparison if all(row in c.cast.comparison for c in curves)]
    names = ready.stars.names
    record = new_cast(
        session,
        campaign,
        ready.target,
        everywhere or first.comparison,
        first.check,
        {str(ready.stars.row(name)): words for name, words in first.reasons},
        {str(ready.stars.row(d.name)): d.reason for c in curves for d in c.cast.dropped},
    )
    assert names[record.target]
    campaign.cast_id = record.id


def _result(file: NightFile, index: int, census: ExposureCensus) -> ExposureResult:
    return ExposureResult(index, None, quality_from_json(file.quality), None, census)
