"""A campaign's exposures as they stand: records, times, places, images' versions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.time import Times, exposure_times
from narrow_beacon.core.frames.colour import STEP
from narrow_beacon.reduce.prepare import target_place
from narrow_beacon.server.kept import Kept
from narrow_beacon.store.campaigns import place_of
from narrow_beacon.store.exposures import ExposureRow, exposure_rows
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    CensusFile,
    ChainRecord,
    MasterRecord,
    NightFile,
    PlacementRecord,
)
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

_times: Kept[Times] = Kept(8)


@dataclass(frozen=True, slots=True)
class SortedRow:
    """What the sorting alone says of an exposure, kept for as long as curves hang on it: a part of
    its record, of which all that was measured since is another.
    """

    id: int
    name: str
    night_id: int | None
    filter: str
    group_name: str
    mid_utc: datetime | None
    parent_id: int | None
    """The file that it is a colour of."""

    @classmethod
    def of(cls, row: ExposureRow) -> SortedRow:
        """The part of a record."""
        return cls(
            row.id, row.name, row.night_id, row.filter, row.group_name, row.mid_utc, row.parent_id
        )


def pixel_step(file: ExposureRow | NightFile) -> int:
    """The file's pixels from one that an exposure has to the next: a colour has every second."""
    return 1 if file.parent_id is None else STEP


def file_name(row: SortedRow | ExposureRow) -> str:
    """The name of the raw file, which an exposure's colours have in common."""
    return row.name if row.parent_id is None else row.name.removesuffix(f" [{row.filter}]")


def width_px(file: ExposureRow | NightFile) -> float | None:
    """The star width in pixels of the file."""
    width = (file.quality or {}).get("fwhm_px")
    return width * pixel_step(file) if width else width


_sorted: Kept[Sequence[SortedRow]] = Kept(4)


def exposures_of(session: Session, campaign: Campaign) -> Sequence[ExposureRow]:
    """The exposures of the sky in order of time."""
    return exposure_rows(session, campaign.id)


def sorted_exposures(session: Session, campaign: Campaign) -> Sequence[SortedRow]:
    """The exposures of the sky in order of time, asked for once for every sorting of the files."""

    def made() -> Sequence[SortedRow]:
        return tuple(map(SortedRow.of, exposures_of(session, campaign)))

    return _sorted.get(campaign.files_stamp, made) if campaign.files_stamp else made()


def chain_prints(session: Session, campaign: Campaign) -> dict[str, str]:
    """The fingerprint of every chain by its name."""
    found = session.execute(
        select(ChainRecord.name, ChainRecord.fingerprint).where(
            ChainRecord.campaign_id == campaign.id
        )
    )
    return dict(found.all())


def image_version(sha256: str, chain_print: str) -> str:
    """A word that is another one when an exposure's corrected pixels are others."""
    return f"{sha256[:10]}{chain_print[:10]}"


def master_version(record: MasterRecord) -> str:
    """A word that is another one when the master's pixels are others."""
    return record.made.isoformat(timespec="milliseconds")


def unmeasured_ids(session: Session, campaign: Campaign) -> set[int]:
    """Exposures that are to be measured, anew where their files have changed: what a census says of
    them is of the file before.
    """
    return {row.id for row in exposures_of(session, campaign) if not row.measured_with}


def set_aside_ids(session: Session, campaign: Campaign) -> set[int]:
    """Exposures that the observer or the program set aside."""
    return {row.id for row in exposures_of(session, campaign) if row.aside_by}


def target_position(session: Session, campaign: Campaign) -> tuple[float, float] | None:
    """Right ascension and declination in degrees of the target, where they are known."""
    stars = stars_of(session, campaign) if campaign.catalogue_id else None
    if campaign.cast_id and stars is not None:
        # Where the catalogue has the star: times are for it, and not for what was typed.
        return target_place(stars, session.get_one(CastRecord, campaign.cast_id).target)
    if campaign.target_ra_deg is not None and campaign.target_dec_deg is not None:
        return campaign.target_ra_deg, campaign.target_dec_deg
    row = stars.find(campaign.target_name) if stars is not None else None
    return target_place(stars, row) if stars is not None and row is not None else None


def view_position(session: Session, campaign: Campaign) -> tuple[float, float] | None:
    """Where the sky's plane touches what is shown: the target, or the first exposure's middle."""
    position = target_position(session, campaign)
    if position is not None:
        return position
    first = session.scalars(
        select(PlacementRecord)
        .join(NightFile, NightFile.id == PlacementRecord.file_id)
        .where(NightFile.campaign_id == campaign.id)
        .order_by(NightFile.mid_utc)
    ).first()
    return solution_of(first).centre if first else None


def times_of(
    session: Session, campaign: Campaign, files: Sequence[SortedRow] | Sequence[ExposureRow]
) -> Times:
    """Times and airmass of exposures; computed once for the same moments, target and site."""
    mids = tuple(file.mid_utc for file in files if file.mid_utc)
    position = target_position(session, campaign)
    site = place_of(session, campaign) if position else None
    return _times.get(
        (mids, position, site), lambda: exposure_times(mids, *(position or (0.0, 0.0)), site)
    )


_RING_FWHM = (3.5, 5.5)
_USUAL_FWHM_PX = 3.0


def ring_px(session: Session, file: NightFile) -> tuple[float, float]:
    """Inner and outer radius of the sky ring of a file's night, filter and kit, in pixels."""
    record = session.scalars(
        select(CensusFile).where(
            CensusFile.campaign_id == file.campaign_id, CensusFile.group_name == file.group_name
        )
    ).first()
    if record is not None and record.annulus_px:
        return record.annulus_px[0], record.annulus_px[1]
    inner, outer = _RING_FWHM
    return inner * _USUAL_FWHM_PX, outer * _USUAL_FWHM_PX


def placements_of(session: Session, ids: Sequence[int]) -> dict[int, PlacementRecord]:
    """Placements by file."""
    found = session.scalars(select(PlacementRecord).where(PlacementRecord.file_id.in_(ids)))
    return {placement.file_id: placement for placement in found}
