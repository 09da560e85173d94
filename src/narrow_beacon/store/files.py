"""A campaign's files: what is known of them, and how they are sorted."""

from __future__ import annotations

import hashlib
import os
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple
from uuid import uuid4

from sqlalchemy import Select, and_, func, select, update
from sqlalchemy.orm import Session

from narrow_beacon.core.frames.frame import Correction, Frame, RawFile, SortedNight
from narrow_beacon.core.frames.sort import channels_of
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.codec import dump, load
from narrow_beacon.reduce.names import chain_name, group_name
from narrow_beacon.reduce.sorting import SortedFiles, inspected, sort_raw_files
from narrow_beacon.store.campaigns import OF_HEADERS, base_folder, plan_of
from narrow_beacon.store.models import Campaign, Night, NightFile, PlacementRecord, Site
from narrow_beacon.store.vetting import take_over_names

AWAY = "not there now; was it moved, or is its disk away? What is known of it is kept"
"""Why a file that was read before takes no part."""


AT_ONCE = 1000
"""Records that are asked for in one go."""


@dataclass(frozen=True)
class CampaignNights:
    """A campaign's files as the core sorts them; ``ids`` are their records' numbers by name."""

    night: SortedNight
    ids: dict[str, int]


def files_of(session: Session, campaign: Campaign) -> Sequence[NightFile]:
    """All files below a campaign's folders, in order of path."""
    return session.scalars(
        select(NightFile)
        .where(NightFile.campaign_id == campaign.id, NightFile.part != "removed")
        .order_by(NightFile.path)
    ).all()


def some_files(session: Session, ids: Sequence[int]) -> dict[int, NightFile]:
    """Some files by their numbers."""
    found: dict[int, NightFile] = {}
    for begin in range(0, len(ids), AT_ONCE):
        some = select(NightFile).where(NightFile.id.in_(ids[begin : begin + AT_ONCE]))
        found |= {file.id: file for file in session.scalars(some)}
    return found


def told_of(session: Session, campaign: Campaign, *columns: str) -> Sequence[Any]:
    """Some columns of all files below a campaign's folders: of tens of thousands whole records take
    ten times as long and as much memory.
    """
    asked = select(*(getattr(NightFile, name) for name in columns)).where(
        NightFile.campaign_id == campaign.id, NightFile.part != "removed"
    )
    return session.execute(asked).all()


def placements_of(session: Session, campaign: Campaign) -> dict[int, PlacementRecord]:
    """Where exposures of a campaign are, by file."""
    asked = (
        select(PlacementRecord)
        .join(NightFile, NightFile.id == PlacementRecord.file_id)
        .where(NightFile.campaign_id == campaign.id, NightFile.part != "removed")
    )
    return {record.file_id: record for record in session.scalars(asked)}


class ListedFile(NamedTuple):
    """A file as it was when it was read, and the observer's word on it."""

    id: int
    path: str
    part: str
    sha256: str
    size: int
    modified_ns: str
    away: bool
    correction: dict[str, Any]
    bare: bool


def listed_files(
    session: Session, campaign: Campaign, only: Collection[int] | None = None
) -> list[ListedFile]:
    """All or some of the files below a campaign's folders, in order of path."""
    asked: Select[Any] = (
        select(*(getattr(NightFile, name) for name in ListedFile._fields[:-1]), BARE)
        .where(NightFile.campaign_id == campaign.id, NightFile.parent_id.is_(None))
        .order_by(NightFile.path, NightFile.id)
    )
    if only is not None:
        asked = asked.where(NightFile.id.in_(only))
    files = [ListedFile(*values) for values in session.execute(asked)]
    return [file for file in files if below_folders(campaign, file.path)]


def below_folders(campaign: Campaign, path: str) -> bool:
    """Whether a path is one of a campaign's folders, or below one."""
    folders = tuple(f"{folder.rstrip('/')}/" for folder in campaign.folders)
    return path.startswith(folders) or path in campaign.folders


BARE = and_(
    NightFile.placed_with == "", NightFile.measured_with == "", NightFile.looked_with == "",
    NightFile.aside_by == "", ~NightFile.kept, func.json_length(NightFile.correction) == 0,
)  # fmt: skip
"""Whether nothing was made of a file, or said of it, yet."""


def rank(bare: bool, part: str) -> tuple[bool, bool]:
    """What orders records of the same content: those of which something is known, and of them one
    that is not left out.
    """
    return bool(bare), part == "left out"


def _known_first(files: Sequence[ListedFile]) -> list[ListedFile]:
    """Files in their order, but of those with the same content that by ``rank`` in front: what was
    made of it and said of it holds.
    """
    places: dict[str, list[int]] = defaultdict(list)
    for at, file in enumerate(files):
        if file.sha256:
            places[file.sha256].append(at)
    ordered = list(files)
    for own in places.values():
        same = sorted((files[at] for at in own), key=lambda file: rank(file.bare, file.part))
        for at, file in zip(own, same, strict=True):
            ordered[at] = file
    return ordered


@dataclass(frozen=True)
class KnownFiles:
    """What is known of a campaign's files: as they were read, the observer's words, and their
    records' numbers, all by name.
    """

    raws: list[RawFile]
    words: dict[str, Correction]
    ids: dict[str, int]


def raws_of(session: Session, ids: Iterable[int]) -> dict[int, RawFile]:
    """What the headers of some files say, by number."""
    found: dict[int, RawFile] = {}
    wanted = sorted(set(ids))
    for begin in range(0, len(wanted), AT_ONCE):
        some = wanted[begin : begin + AT_ONCE]
        asked = select(NightFile.id, NightFile.raw).where(NightFile.id.in_(some))
        found |= {number: load(RawFile, raw) for number, raw in session.execute(asked).all()}
    return found


def known_files(
    session: Session, campaign: Campaign, only: Collection[int] | None = None
) -> KnownFiles:
    """All or some of the files of a campaign as a walk sorts them."""
    base = base_folder(campaign)
    raws, words, ids = [], {}, {}
    files = _known_first(listed_files(session, campaign, only))
    # Some at a time: of tens of thousands the headers alone are hundreds of megabytes.
    for begin in range(0, len(files), AT_ONCE):
        some = files[begin : begin + AT_ONCE]
        headers = raws_of(session, [file.id for file in some])
        for file in some:
            raw = headers[file.id]
            name = Path(os.path.relpath(file.path, base)).as_posix() + raw.part
            raws.append(
                RawFile(name, "", None, None, AWAY) if file.away else replace(raw, name=name)
            )
            word = correction_from(file.correction)
            if word:
                words[name] = word
            ids[name] = file.id
    names = {number: name for name, number in ids.items()}
    colours = select(NightFile.id, NightFile.parent_id, NightFile.filter).where(
        NightFile.campaign_id == campaign.id, NightFile.parent_id.is_not(None)
    )
    for number, parent, channel in session.execute(colours):
        if parent in names:
            ids[f"{names[parent]} [{channel}]"] = number
    return KnownFiles(raws, words, ids)


def sort_files(
    session: Session, campaign: Campaign, only: Collection[int] | None = None
) -> CampaignNights:
    """Sort all or some of the files by their headers and the observer's corrections."""
    known = known_files(session, campaign, only)
    night = sort_raw_files(plan_of(session, campaign), known.raws, known.words).night
    if any(frame.name not in known.ids for frame in night.exposures):
        # Written down before colours were taken apart.
        refresh_files(session, campaign)
        known = known_files(session, campaign, only)
        night = sort_raw_files(plan_of(session, campaign), known.raws, known.words).night
    return CampaignNights(night, known.ids)


def correction_of(file: NightFile) -> Correction | None:
    """The observer's word on a file, where there is one."""
    return correction_from(file.correction)


def correction_from(kept: Mapping[str, Any]) -> Correction | None:
    """The observer's word, as it is kept; None where there is nothing."""
    values = {name: value for name, value in kept.items() if value is not None}
    if not values:
        return None
    if values.get("time_utc"):
        values["time_utc"] = datetime.fromisoformat(values["time_utc"])
    return Correction(**values)


def frame_of(session: Session, campaign: Campaign, file: NightFile) -> Frame | None:
    """A file as a frame, of a colour that colour's; None where it is none now."""
    own = session.get_one(NightFile, file.parent_id) if file.parent_id else file
    raw, word = load(RawFile, own.raw), correction_of(own)
    (item,) = inspected(plan_of(session, campaign), [raw], {raw.name: word} if word else {})
    if not isinstance(item, Frame):
        return None
    parts = channels_of(item) if item.kind == "exposure" else [item]
    return next((p for p in parts if not p.channel or p.channel == file.filter), None)


def refresh_files(session: Session, campaign: Campaign) -> SortedFiles:
    """Sort anew and write down what every file is now."""
    known = known_files(session, campaign)
    files = sort_raw_files(plan_of(session, campaign), known.raws, known.words)
    write_sorted(session, campaign, files, known.ids)
    return files


def write_sorted(
    session: Session, campaign: Campaign, files: SortedFiles, ids: dict[str, int]
) -> None:
    """Write down what every file is; those below no folder of the campaign are out of it. Colours
    that were not known before are added to ``ids``.
    """
    _add_colours(session, campaign, files.night, ids)
    by_id = {
        file.id: file
        for file in session.scalars(select(NightFile).where(NightFile.campaign_id == campaign.id))
    }
    nights = {
        night.evening: night
        for night in session.scalars(select(Night).where(Night.campaign_id == campaign.id))
    }
    night = files.night
    for frame in (*night.exposures, *night.calibration):
        file = by_id[ids[frame.name]]
        if frame.night and frame.night not in nights:
            record = Night(campaign_id=campaign.id, evening=frame.night)
            session.add(record)
            session.flush()
            nights[frame.night] = record
        _write_frame(file, frame)
        file.night_id = nights[frame.night].id if frame.night else None
    for item in night.left_out:
        file = by_id[ids[item.name]]
        file.name, file.part, file.part_reason = item.name, "left out", item.reason
        file.kind, file.filter = item.kind, item.filter
        file.sha256 = item.sha256 or file.sha256  # of one that is away it is as it was
        file.chain = file.group_name = ""
    apart = {ids[frame.file] for frame in night.exposures if frame.channel}
    for number in apart:
        file = by_id[number]
        file.part, file.part_reason = "colours", "taken apart into its colours"
        file.chain = file.group_name = file.trouble = file.proposal = ""
    colours = {ids[frame.name] for frame in night.exposures if frame.channel}
    there = set(ids.values())
    for number, file in by_id.items():
        if number not in there or (file.parent_id is not None and number not in colours):
            file.part, file.part_reason = "removed", "its folder was taken out"
    used = {file.night_id for file in by_id.values() if file.part != "removed"}
    for record in nights.values():
        if record.id not in used:
            for file in by_id.values():
                file.night_id = None if file.night_id == record.id else file.night_id
            session.flush()
            session.delete(record)
    session.flush()
    take_over_names(session, campaign)
    _take_from_headers(session, campaign, files.plan)
    campaign.files_stamp = uuid4().hex


def _add_colours(
    session: Session, campaign: Campaign, night: SortedNight, ids: dict[str, int]
) -> None:
    """A record for every colour of an exposure that has none yet."""
    for frame in night.exposures:
        if not frame.channel or frame.name in ids:
            continue
        parent = session.get_one(NightFile, ids[frame.file])
        key = colour_key(parent.path, frame.channel)
        child = NightFile(
            campaign_id=campaign.id, path=parent.path, path_sha256=key, name=frame.name,
            size=parent.size, modified_ns=parent.modified_ns, raw="", correction={},
            parent_id=parent.id,
        )  # fmt: skip
        session.add(child)
        session.flush()
        ids[frame.name] = child.id


def colour_key(path: str, channel: str) -> str:
    """``path_sha256`` of a colour of the file at a path."""
    return hashlib.sha256(f"{path} [{channel}]".encode()).hexdigest()


def _write_frame(file: NightFile, frame: Frame) -> None:
    file.name = frame.name
    file.part = "exposure" if frame.kind == "exposure" else "calibration"
    if file.part == "calibration":
        # What was said of it as an exposure holds no longer; its census, while there is one, does.
        file.trouble = file.proposal = file.placed_with = ""
    file.part_reason = ""
    file.kind, file.filter = frame.kind, frame.filter or ""
    file.exposure_s, file.mid_utc = frame.exposure_s, frame.mid_utc
    file.temperature_c, file.sha256 = frame.temperature_c, frame.sha256 or file.sha256
    file.kit = frame.kit
    file.height, file.width = frame.shape
    if frame.channel:
        facts = frame.facts
        file.raw = dump(RawFile(frame.name, frame.sha256, frame.source, facts, ""))
    exposure = frame.kind == "exposure"
    file.chain = chain_name(frame) if exposure else ""
    file.group_name = group_name(frame) if exposure else ""


def add_raw_files(
    session: Session, campaign: Campaign, raws: Sequence[tuple[Path, RawFile]]
) -> None:
    """Write down files that were read, in place of what was known of them before: of other content
    they are to be placed and measured again.
    """
    keys = [hashlib.sha256(f"{path}{raw.part}".encode()).hexdigest() for path, raw in raws]
    paths = {str(path) for path, _ in raws}
    known = {
        file.path_sha256: file
        for file in session.scalars(
            select(NightFile).where(
                NightFile.campaign_id == campaign.id, NightFile.path.in_(paths),
                NightFile.parent_id.is_(None),
            )
        )
    }  # fmt: skip
    for gone in known.keys() - set(keys):
        if state_of(Path(known[gone].path)) != (known[gone].size, known[gone].modified_ns):
            known[gone].away = True  # an image that its file does not hold any more
    changed = []
    for key, (path, raw) in zip(keys, raws, strict=True):
        size, modified = state_of(path)
        file = known.get(key) or NightFile(
            campaign_id=campaign.id, path=str(path), path_sha256=key, name=raw.name,
            size=size, modified_ns=modified, raw="", correction={},
        )  # fmt: skip
        if raw.sha256 and file.sha256 not in ("", None, raw.sha256):
            changed.append(file.id)
        file.away = False
        file.raw, file.size, file.modified_ns = dump(raw), size, modified
        file.sha256 = raw.sha256 or file.sha256 or ""
        session.add(file)
    if changed:
        nothing = dict.fromkeys(("placed_with", "measured_with", "looked_with", "trouble"), "")
        own = NightFile.id.in_(changed) | NightFile.parent_id.in_(changed)
        session.execute(update(NightFile).where(own).values(**nothing, proposal=""))


def state_of(path: Path) -> tuple[int, str]:
    """Size and time of the last change; nothing where it is gone."""
    try:
        status = path.stat()
    except OSError:
        return 0, ""
    return status.st_size, str(status.st_mtime_ns)


def _take_from_headers(session: Session, campaign: Campaign, plan: Plan) -> None:
    """What only the headers say of target and site, until the observer does."""
    if not campaign.target_name and campaign.target_ra_deg is None:
        campaign.target_name = plan.target_name or ""
        campaign.target_ra_deg, campaign.target_dec_deg = plan.target_ra_deg, plan.target_dec_deg
    known = session.get(Site, campaign.site_id) if campaign.site_id else None
    if plan.site is None or (known and known.name != OF_HEADERS):
        return
    values = vars(plan.site)
    if known is None or any(getattr(known, name) != value for name, value in values.items()):
        site = Site(name=OF_HEADERS, **values)
        session.add(site)
        session.flush()
        campaign.site_id = site.id
