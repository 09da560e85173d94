"""What a report is made of, as a plan: with it and the raw files anybody gets the same numbers."""

from __future__ import annotations

import os
import shutil
import zipfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import IO

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.writer import write_catalogue
from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Correction
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.plan import Plan, TargetWish, Vetting
from narrow_beacon.plan_writer import plan_text
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.curves import CurvesNow
from narrow_beacon.store.campaigns import base_folder, chains_of, plan_of
from narrow_beacon.store.files import correction_of
from narrow_beacon.store.models import Campaign, CastRecord, MasterRecord, NightFile, Recipe
from narrow_beacon.store.targets import KeptTarget, targets_of

PLAN, _CATALOGUE, _SEQUENCE, _LIBRARY = (
    "plan.toml",
    "catalogue.ecsv",
    "stars-of-chart.ecsv",
    "library",
)
_HEAD = """# What this report is made of. Beside the raw files, whose names and SHA-256 are in
# provenance.json, ./beacon reduce {plan} gives the same numbers.
"""


def write_plan(session: Session, campaign: Campaign, now: CurvesNow, folder: Path) -> None:
    """Write the campaign as a plan with its stars, and masters of other nights, into a folder."""
    plan = plan_of(session, campaign)
    assert plan.stars is not None
    names = now.stars.names
    columns = write_catalogue(plan.stars, folder / _CATALOGUE)
    sequence, meant = "", {}
    if plan.sequence is not None:
        sequence = _SEQUENCE
        meant = write_catalogue(plan.sequence.stars, folder / _SEQUENCE)
    kept = list(targets_of(campaign))
    first, *beside = [_as_played(session, one, names) for one in kept]
    plan = replace(plan.of_target(first), beside=tuple(beside))
    plan = replace(
        plan, epoch_yr=plan.stars.epoch_yr if plan.stars else None, columns=columns,
        steps=_steps(session, campaign), files=_words(session, campaign),
        vetting=_vetted(session, campaign, plan), library=_library(session, campaign, folder),
        layout=campaign.layout if not plan.layout_text else "plain",
    )  # fmt: skip
    base = base_folder(campaign)
    folders = [Path(os.path.relpath(one, base)).as_posix() for one in campaign.folders]
    text = plan_text(
        plan, folders=folders, catalogue=_CATALOGUE, sequence=sequence, sequence_columns=meant
    )
    (folder / PLAN).write_text(_HEAD.format(plan=PLAN) + "\n" + text, encoding="utf-8")


def _as_played(session: Session, kept: KeptTarget, names: Sequence[str]) -> TargetWish:
    """A target with its cast by name, where that is not what the program would choose again."""
    record = session.get(CastRecord, kept.cast_id) if kept.cast_id else None
    if record is None or record.automatic:
        return kept.wish
    return replace(
        kept.wish, comparison=tuple(names[row] for row in record.comparison),
        checks=tuple(names[row] for row in record.checks),
    )  # fmt: skip


def _steps(session: Session, campaign: Campaign) -> dict[str, float]:
    recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
    if recipe is None or recipe.automatic:
        return {}
    return {name: RADII_FWHM[int(step)] for name, step in recipe.steps.items()}


def _words(session: Session, campaign: Campaign) -> dict[str, Correction]:
    said = {}
    for file in session.scalars(select(NightFile).where(NightFile.campaign_id == campaign.id)):
        word = correction_of(file)
        if word is not None and file.parent_id is None:
            said[file.name] = word
    return said


def _vetted(session: Session, campaign: Campaign, plan: Plan) -> Vetting:
    """With every exposure that takes part kept, and every other one set aside, by name."""
    rows = session.execute(
        select(NightFile.name, NightFile.aside_by, NightFile.aside_reason, NightFile.proposal)
        .where(NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
    ).all()  # fmt: skip
    aside = {name: why for name, by, why, _ in rows if by}
    keep = [name for name, by, _, proposal in rows if proposal and not by]
    return replace(
        plan.vetting, set_aside={**plan.vetting.set_aside, **aside},
        keep=tuple(dict.fromkeys([*plan.vetting.keep, *keep])),
    )  # fmt: skip


def _library(session: Session, campaign: Campaign, folder: Path) -> Path | None:
    """Masters in use that the campaign's own frames do not make, beside the plan: those of its
    library and of the shelf.
    """
    own = set(
        session.scalars(
            select(NightFile.sha256).where(
                NightFile.campaign_id == campaign.id, NightFile.part == "calibration"
            )
        )
    )
    chains = chains_of(session, campaign).values()
    used = {station.file for chain in chains for station in chain.stations if station.file}
    records = session.scalars(select(MasterRecord).where(MasterRecord.campaign_id == campaign.id))
    others = []
    for record in records:
        facts = load(MasterFacts, record.facts)
        made_here = bool(facts.inputs) and {sha for _, sha in facts.inputs} <= own
        path = Path(record.path)
        if path.name in used and not made_here:
            others.append(path)
    for path in others:
        (folder / _LIBRARY).mkdir(exist_ok=True)
        shutil.copyfile(path, folder / _LIBRARY / path.name)
    return Path(_LIBRARY) if others else None


def write_bundle(
    folder: Path, files: Sequence[str], raw: Sequence[tuple[Path, str]], out: IO[bytes]
) -> None:
    """All files of a report as one archive, with raw files (path, name in it) as they are."""
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as whole:
        for name in files:
            path = folder / name
            for one in sorted(path.rglob("*")) if path.is_dir() else [path]:
                if one.is_file():
                    whole.write(one, one.relative_to(folder))
        for path, name in raw:
            # Noise does not pack.
            whole.write(path, name, compress_type=zipfile.ZIP_STORED)


def raw_files(session: Session, campaign: Campaign) -> list[tuple[Path, str]]:
    """The raw files that are there, with their names as the plan sees them."""
    base = base_folder(campaign)
    found = session.scalars(
        select(NightFile).where(
            NightFile.campaign_id == campaign.id, NightFile.parent_id.is_(None),
            NightFile.part.in_(("exposure", "calibration", "colours")),
        )
    )  # fmt: skip
    named = {Path(file.path): Path(os.path.relpath(file.path, base)).as_posix() for file in found}
    return [(path, name) for path, name in named.items() if path.is_file()]
