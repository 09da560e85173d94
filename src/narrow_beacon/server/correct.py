"""Correct: chains with their stations, masters, what is doubtful about them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from sqlalchemy import func, select

from narrow_beacon.core.correct.appearance import look_at
from narrow_beacon.core.correct.combine import LEAST_TO_CLIP
from narrow_beacon.core.correct.flat_verdict import FlatVerdict, judge_flats
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.correct.ready_made import ELSEWHERE
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.kits import MEAN, MEDIAN
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.night import master_version
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.correct import (
    ChainOut,
    CorrectOut,
    FigureOut,
    FiguresOut,
    FlatOut,
    FrameOf,
    MasterOut,
    StationOut,
)
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.server.views import RAW, flat_and_master, image_of_file
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.models import Campaign, MasterRecord, NightFile

blueprint = APIBlueprint("correct", __name__)


@blueprint.get("/api/campaigns/<int:number>/correct")
@blueprint.output(CorrectOut)
def correct(number: int) -> CorrectOut:
    """The chains from raw to corrected, and the masters that they are made of."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        chains = chains_of(session, campaign)
        counts = dict(
            session.execute(
                select(NightFile.chain, func.count())
                .where(NightFile.campaign_id == number, NightFile.part == "exposure")
                .group_by(NightFile.chain)
            ).all()
        )
        masters = session.scalars(
            select(MasterRecord).where(MasterRecord.campaign_id == number).order_by(MasterRecord.id)
        ).all()
        frames: dict[str, FrameOf] = {
            sha256: FrameOf(id=own, name=name)
            for sha256, own, name in session.execute(
                select(NightFile.sha256, NightFile.id, NightFile.name).where(
                    NightFile.campaign_id == number, NightFile.part == "calibration"
                )
            )
        }
    used = {key for chain in chains.values() for key in chain.masters}
    facts = {record.id: load(MasterFacts, record.facts) for record in masters}
    labels = {own.key: own.label for own in facts.values()}
    ids = {own.key: number for number, own in facts.items()}
    return CorrectOut(
        chains=[_chain(chain, counts.get(chain.name, 0), ids) for chain in chains.values()],
        masters=[_master(record, facts[record.id], used, labels, frames) for record in masters],
    )


def _chain(chain: ChainReport, exposures: int, ids: dict[str, int]) -> ChainOut:
    said = {words for station in chain.stations for words in station.remarks}
    return ChainOut(
        name=chain.name,
        exposures=exposures,
        stations=[
            StationOut(
                kind=s.kind,
                words=s.words,
                master=s.master,
                master_id=ids.get(s.key),
                remarks=list(s.remarks),
            )
            for s in chain.stations
        ],
        missing=[words for words in chain.remarks if words not in said],
        defects=chain.defects,
        masters=list(chain.masters),
        left_out=list(chain.left_out),
    )


@blueprint.get("/api/masters/<int:number>/over/<int:other>")
@blueprint.output(FlatOut)
def over(number: int, other: int) -> FlatOut:
    """What one flat divided by another shows, measured and in words."""
    with shared().store.session() as session:
        found = [session.get(MasterRecord, which) for which in (number, other)]
        if None in found:
            raise Problem(404, "No such master", "It was built anew; the list is reloaded.")
        records = [record for record in found if record is not None]
        paths = [Path(record.path) for record in records]
        campaign = session.get_one(Campaign, records[0].campaign_id)
        gain = _gain_of(campaign)
    try:
        first, second = (read_master(path) for path in paths)
    except UnreadableFileError as error:
        raise Problem(409, "The master cannot be read", str(error)) from error
    if first.facts.kind != "flat" or first.plane.shape != second.plane.shape:
        raise Problem(422, "Not to be compared", "Two flats of one size can be.")
    photons = None
    if gain and min(first.facts.level_adu, second.facts.level_adu) > 0:
        one, two = (m.facts.level_adu * m.facts.count * gain for m in (first, second))
        photons = (one, two)
    return _verdict(judge_flats(first.plane, second.plane, photons))


def _verdict(verdict: FlatVerdict) -> FlatOut:
    worst = max([abs(c.change) for c in verdict.changes] + [verdict.slope / 2, abs(verdict.radial)])
    return FlatOut(
        words=list(verdict.words), scatter=verdict.scatter,
        expected=verdict.expected if np.isfinite(verdict.expected) else None,
        slope=verdict.slope, slope_deg=verdict.slope_deg, radial=verdict.radial,
        cost_mmag=1086.0 * worst,
    )  # fmt: skip


@blueprint.get("/api/files/<int:number>/over/<int:master>")
@blueprint.output(FlatOut)
def single_over(number: int, master: int) -> FlatOut:
    """What a single flat divided by its master shows."""
    with shared().store.session() as session:
        file = file_of(session, number)
        raw, campaign = load(RawFile, file.raw), campaign_of(session, file.campaign_id)
        gain = _gain_of(campaign)
    try:
        plane, whole = flat_and_master(raw, master)
    except (UnreadableFileError, OSError) as error:
        raise Problem(409, "The flat cannot be read", str(error)) from error
    if whole.facts.kind != "flat":
        raise Problem(422, "Not to be compared", "A flat with its master flat can be.")
    one = whole.facts.level_adu
    photons = (one * gain, one * whole.facts.count * gain) if gain and one > 0 else None
    return _verdict(judge_flats(plane, whole.plane, photons))


def _gain_of(campaign: Campaign) -> float | None:
    gains = [camera["gain_e_per_adu"] for camera in (campaign.cameras or {}).values()]
    return float(gains[0]) if gains else None


@blueprint.get("/api/files/<int:number>/figures")
@blueprint.output(FiguresOut)
def figures(number: int) -> FiguresOut:
    """What correction does to an exposure, in numbers before and after."""
    # One after the other: of a large camera each plane is a quarter of a gigabyte.
    with image_of_file(number, RAW) as raw:
        before = look_at(raw)
    with image_of_file(number) as corrected:
        after = look_at(corrected)
    return FiguresOut(
        figures=[
            FigureOut(name=name, unit=unit, raw=getattr(before, key), corrected=getattr(after, key))
            for key, name, unit in _FIGURES
        ]
    )


_FIGURES = (
    ("noise_adu", "noise of the sky", "ADU"), ("hot", "hot pixels", ""),
    ("slope", "gradient", "%"), ("corners", "corners over middle", "%"),
    ("banding_adu", "rows' own levels", "ADU"),
)  # fmt: skip


def _master(
    record: MasterRecord, facts: MasterFacts, used: set[str], labels: dict[str, str],
    frames: dict[str, FrameOf],
) -> MasterOut:  # fmt: skip
    return MasterOut(
        id=record.id, label=facts.label, kind=facts.kind, filter=facts.filter or "",
        exposure_s=facts.exposure_s, temperature_c=facts.temperature_c, night=facts.night,
        count=facts.count, level_adu=facts.level_adu, clipped_share=facts.clipped_share,
        combined=_combined(facts), used=facts.key in used,
        made_with=[labels.get(key, key) for key in facts.made_with],
        frames=[frames[sha256] for _, sha256 in facts.inputs if sha256 in frames],
        camera=facts.camera or "", version=master_version(record),
    )  # fmt: skip


def _combined(facts: MasterFacts) -> str:
    if facts.combined == ELSEWHERE:
        return "made elsewhere"
    if facts.combined == MEAN:
        way = "mean"
    elif facts.combined == MEDIAN or facts.count < LEAST_TO_CLIP:
        way = "median"
    else:
        way = f"mean within {facts.clip_sigma:g} σ of the median"
    scaled = "; each scaled to a median of 1" if facts.kind == "flat" else ""
    return f"{way}, all frames weigh alike{scaled}"
