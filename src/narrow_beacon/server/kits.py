"""Kits: their constants with where each came from, and the rules for their calibration frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import Any

from apiflask import APIBlueprint
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon.core.correct.photon_transfer import PhotonTransfer, photon_transfer
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import OF_ALL, KitWord
from narrow_beacon.core.words import counted
from narrow_beacon.server.night import ExposureRow, exposures_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.kits import (
    KitOut,
    KitQuery,
    KitSaid,
    KitsOut,
    RulesOut,
    Said,
    TransferOut,
    TransferPoint,
)
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.files import sort_files
from narrow_beacon.store.kits import kits_of, said_anew
from narrow_beacon.store.models import Campaign, NightFile

blueprint = APIBlueprint("kits", __name__)


@blueprint.get("/api/campaigns/<int:number>/kits")
@blueprint.output(KitsOut)
def kits(number: int) -> KitsOut:
    """Every kit of the campaign, in each of its settings: what is said, and what is in force."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        said = kits_of(session, campaign)
        rows = exposures_of(session, campaign)
        frames = _frames_of_groups(session, campaign, rows)
    found: dict[str, Frame] = {}
    counts: dict[str, set[int]] = {}
    for row in rows:
        frame = frames.get(row.group_name)
        if frame is not None:
            name = frame.known_as[0]
            found.setdefault(name, frame)
            counts.setdefault(name, set()).add(row.parent_id or row.id)
    constants = dict(campaign.constants or {})
    return KitsOut(
        kits=[
            KitOut(
                name=name, kit=frame.kit, setting=frame.setting, exposures=len(counts[name]),
                constants=_of_kit(constants, name, alone=len(found) == 1),
                said=_said(said.said.get(name, KitWord())),
                rules=RulesOut(**_rules(said.word(*frame.known_as))),
            )
            for name, frame in sorted(found.items(), key=lambda one: -len(counts[one[0]]))
        ]
    )  # fmt: skip


def _frames_of_groups(
    session: Session, campaign: Campaign, rows: Sequence[ExposureRow]
) -> dict[str, Frame]:
    """An exposure of each group, which are all of one kit in one setting."""
    firsts = {row.group_name: row for row in reversed(rows)}
    files = {row.parent_id or row.id for row in firsts.values()}
    nights = sort_files(session, campaign, files)
    frames = {nights.ids[frame.name]: frame for frame in nights.night.exposures}
    return {name: frames[row.id] for name, row in firsts.items() if row.id in frames}


@blueprint.get("/api/campaigns/<int:number>/kits/transfer")
@blueprint.input(KitQuery, location="query", arg_name="query")
@blueprint.output(TransferOut)
def transfer(number: int, query: KitQuery) -> TransferOut:
    """The photon-transfer picture of a kit in one setting, from its flats and bias frames."""
    with shared().store.session() as session:
        frames = select(NightFile.id).where(
            NightFile.campaign_id == number, NightFile.part == "calibration"
        )
        campaign = campaign_of(session, number)
        night = sort_files(session, campaign, session.scalars(frames).all()).night
    calibration = night.calibration
    own = [frame for frame in calibration if query.name in (frame.known_as[0], frame.kit)]
    flats = [frame for frame in own if frame.kind == "flat"]
    biases = [frame for frame in own if frame.kind == "bias"]
    try:
        found = photon_transfer(flats, biases)
    except (UnreadableFileError, OSError) as error:
        raise Problem(409, "A calibration frame cannot be read", str(error)) from error
    if found is None:
        have = f"{counted(len(flats), 'flat')} and {counted(len(biases), 'bias frame')}"
        words = f"There are {have} of it; two flats of one filter and two bias frames are needed."
        return TransferOut(
            points=[], bias_adu=0.0, gain_e_per_adu=0.0, read_noise_e=0.0, linear_to_adu=0.0,
            bends=False, words=words,
        )  # fmt: skip
    return TransferOut(
        points=[TransferPoint(**vars(point)) for point in found.points],
        bias_adu=found.bias_adu, gain_e_per_adu=found.noise.gain_e_per_adu,
        read_noise_e=found.noise.read_noise_e, linear_to_adu=found.linear_to_adu,
        bends=found.bends, words=_transfer_words(found),
    )  # fmt: skip


def _transfer_words(found: PhotonTransfer) -> str:
    noise = found.noise
    words = (
        f"{counted(len(found.points), 'pair')} of flats: {noise.gain_e_per_adu:.3f} e⁻ an ADU, "
        f"read noise {noise.read_noise_e:.1f} e⁻. "
    )
    level = f"{found.linear_to_adu:,.0f} ADU"
    if found.bends:
        return words + f"Brighter than {level} the sensor is no longer linear."
    return words + f"Linear up to {level} at least, the brightest flat."


def _of_kit(constants: dict[str, str], name: str, *, alone: bool) -> dict[str, str]:
    if alone:
        return constants
    end = f" ({name})"
    return {key.removesuffix(end): words for key, words in constants.items() if key.endswith(end)}


def _said(word: KitWord) -> Said:
    return Said(**{name: getattr(word, name) for name in Said.model_fields})


def _rules(word: KitWord) -> dict[str, Any]:
    return {name: value for name, value in asdict(word.rules).items()}


@blueprint.put("/api/campaigns/<int:number>/kits")
@blueprint.input(KitSaid, arg_name="body")
@blueprint.output(Done)
def change(number: int, body: KitSaid) -> Done:
    """Say something else of a kit. What it says of defects stays; new campaigns of the kit begin
    with it.
    """
    with changing(number) as (session, campaign):
        before = kits_of(session, campaign).said.get(body.name, KitWord())
        word = replace(before, **body.said.model_dump())
        if word == before:
            return Done(words="Nothing to change.")
        known = session.scalar(
            select(func.count())
            .select_from(NightFile)
            .where(NightFile.campaign_id == number, NightFile.kit != "",
                   func.locate(NightFile.kit, body.name) == 1)
        )  # fmt: skip
        if not known and body.name != OF_ALL:
            raise Problem(404, "No such kit", f"No exposure here was taken with {body.name}.")
        words = say(session, campaign, body.name, word, f"changed what is said of {body.name}")
    return Done(words=words)


def say(session: Session, campaign: Campaign, name: str, word: KitWord, words: str) -> str:
    """Say something else of a kit, as one action; returns its words."""
    record, after = said_anew(session, campaign, name, word)
    changes = [
        Change("campaign", campaign.id, "kits", after),
        Change("kit_word", record.id, "withdrawn", False),
    ]
    entry = act(session, campaign, words, changes)
    return entry.words if entry else "Nothing to change."
