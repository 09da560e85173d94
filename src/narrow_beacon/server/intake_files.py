"""A campaign's files in Intake: what is listed, their stacks and what is missing.

There can be tens of thousands of them: exposures are told from what is kept of them, and only the
headers that say something new are looked into.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any

from pydantic_core import from_json
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.frames.frame import Correction, RawFile
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.header_values import Reading
from narrow_beacon.reduce.chain_plan import wanting
from narrow_beacon.reduce.tasks import WRONG_KIND
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import exposures_of
from narrow_beacon.server.schemas.intake import Stack
from narrow_beacon.server.stages import needs_answer
from narrow_beacon.store.exposures import ExposureRow
from narrow_beacon.store.files import correction_from, raws_of, sort_files
from narrow_beacon.store.kits import kits_of
from narrow_beacon.store.models import Campaign, Night, NightFile

_THIN = 10
_SHOWN_FACTS = (
    "kind", "filter", "exposure_s", "time_utc", "temperature_c", "gain_setting", "offset_setting",
    "camera", "telescope", "ra_deg", "dec_deg",
)  # fmt: skip
NOTHING, SEVERAL = "nothing", "several"
_AT_ONCE = 1000


@dataclass(frozen=True, slots=True)
class _Listed:
    """The columns of NightFile that are listed."""

    id: int
    name: str
    part: str
    part_reason: str
    trouble: str
    kind: str
    filter: str
    exposure_s: float | None
    mid_utc: datetime | None
    temperature_c: float | None
    night_id: int | None
    correction: dict[str, Any] | None
    kit: str


_COLUMNS = tuple(field.name for field in fields(_Listed))


@dataclass(frozen=True)
class _Headers:
    """What headers say that records do not: gain, offset and read-out mode in words, by group of
    exposures and by number of calibration frame; and what calibration is missing.
    """

    of_groups: Mapping[str, str]
    of_frames: Mapping[int, str]
    missing: Sequence[str]


_headers: Kept[_Headers] = Kept(4)


@dataclass(frozen=True)
class CampaignFiles:
    """The files as columns of ``FileOut``, in order of their names; stacks, and what is missing."""

    columns: dict[str, list[Any]]
    stacks: list[Stack]
    missing: Sequence[str]


def campaign_files(session: Session, campaign: Campaign) -> CampaignFiles:
    """All files below a campaign's folders as they stand."""
    rows = exposures_of(session, campaign)
    others = [
        _Listed(*values)
        for values in session.execute(
            select(*(getattr(NightFile, name) for name in _COLUMNS)).where(
                NightFile.campaign_id == campaign.id,
                NightFile.part.not_in(("exposure", "removed")),
            )
        ).all()
    ]
    evenings = {
        number: evening
        for number, evening in session.execute(
            select(Night.id, Night.evening).where(Night.campaign_id == campaign.id)
        ).all()
    }
    headers = _headers_of(session, campaign, rows, others)
    files = [
        _Listed(
            row.id, row.name, "exposure", "", row.trouble, "exposure", row.filter, row.exposure_s,
            row.mid_utc, row.temperature_c, row.night_id, row.correction, row.kit,
        )
        for row in rows
        if row.parent_id is None
    ]  # fmt: skip
    files = sorted([*files, *others], key=lambda file: (file.name, file.id))
    return CampaignFiles(
        {
            "id": [file.id for file in files], "name": [file.name for file in files],
            "part": [file.part for file in files],
            "part_reason": [file.part_reason or file.trouble or "" for file in files],
            "kind": [file.kind for file in files], "filter": [file.filter for file in files],
            "exposure_s": [file.exposure_s for file in files],
            "time_utc": [
                file.mid_utc.isoformat(" ", "seconds") if file.mid_utc else "" for file in files
            ],
            "temperature_c": [file.temperature_c for file in files],
            "night": [evenings.get(file.night_id or 0, "") for file in files],
            "correction": [
                {name: str(value) for name, value in (file.correction or {}).items()}
                for file in files
            ],
            "question": [
                needs_answer(file.part, file.part_reason or "", file.trouble or "")
                for file in files
            ],
        },
        _stacks(rows, others, headers, evenings), headers.missing,
    )  # fmt: skip


def said_of(session: Session, campaign: Campaign, ids: Sequence[int]) -> dict[str, str]:
    """What the headers of some files say in common: by fact its value with its keyword, NOTHING or
    SEVERAL.
    """
    words: dict[str, str] = {}
    for begin in range(0, len(ids), _AT_ONCE):
        asked = select(NightFile.raw).where(
            NightFile.campaign_id == campaign.id, NightFile.id.in_(ids[begin : begin + _AT_ONCE])
        )
        for raw in session.scalars(asked):
            facts = from_json(raw)["facts"] or {}
            for name in _SHOWN_FACTS:
                word = _word(facts.get(name))
                words[name] = word if words.get(name, word) == word else SEVERAL
        if words and all(word == SEVERAL for word in words.values()):
            break
    return words


def _word(reading: Mapping[str, Any] | None) -> str:
    if reading is None:
        return NOTHING
    value = reading["value"]
    if isinstance(value, str) and value[10:11] == "T":
        value = datetime.fromisoformat(value).isoformat(" ")
    return f"{value} ({reading['keyword']})"


def _headers_of(
    session: Session, campaign: Campaign, rows: Sequence[ExposureRow],
    others: Sequence[_Listed],
) -> _Headers:  # fmt: skip
    """Looked up once for the same files, words of the observer and kits."""
    kits = kits_of(session, campaign)
    # What turned out to be no exposure of the sky needs no calibration.
    sky = [row for row in rows if not row.trouble.startswith(WRONG_KIND)]
    of_chains = {row.chain: row for row in sky}
    of_groups = {row.group_name: row for row in rows}
    frames = [one.id for one in others if one.part == "calibration"]
    said = [(row.id, repr(row.correction)) for row in rows if row.correction]
    said += [(one.id, repr(one.correction)) for one in others if one.correction]
    key = (
        campaign.id, campaign.files_stamp or id(rows), repr(kits), tuple(said), tuple(frames),
        tuple(row.id for row in (*of_chains.values(), *of_groups.values())),
    )  # fmt: skip

    def read() -> _Headers:
        own = {row.parent_id or row.id for row in of_chains.values()}
        nights = sort_files(session, campaign, own | set(frames))
        chains = {row.id for row in of_chains.values()}
        exposures = [f for f in nights.night.exposures if nights.ids[f.name] in chains]
        raws = raws_of(session, [*frames, *(row.id for row in of_groups.values())])
        words = {one.id: correction_from(one.correction or {}) for one in others}
        return _Headers(
            {
                name: _settings(raws[row.id], correction_from(row.correction or {}))
                for name, row in of_groups.items()
            },
            {number: _settings(raws[number], words[number]) for number in frames},
            wanting(exposures, nights.night.calibration, kits),
        )

    return _headers.get(key, read)


def _settings(raw: RawFile, correction: Correction | None) -> str:
    """Gain, offset and read-out mode in words, the observer's first."""
    parts = []
    for name, words in (("gain_setting", "gain"), ("offset_setting", "offset")):
        reading: Reading[float] | None = getattr(raw.facts, name) if raw.facts else None
        said: float | None = getattr(correction, name) if correction else None
        value = reading.value if said is None and reading else said
        if value is not None:
            parts.append(f"{words} {value:g}")
    if raw.facts and raw.facts.readout_mode:
        parts.append(raw.facts.readout_mode.value)
    return ", ".join(parts)


def _stacks(
    rows: Sequence[ExposureRow], others: Sequence[_Listed], headers: _Headers,
    evenings: Mapping[int, str],
) -> list[Stack]:  # fmt: skip
    groups: dict[tuple[Any, ...], list[int]] = defaultdict(list)
    for row in rows:
        groups[
            (
                "exposure", "exposure", row.filter, row.exposure_s, _degree(row.temperature_c),
                headers.of_groups[row.group_name], evenings.get(row.night_id or 0, ""), row.kit,
            )
        ].append(row.id)  # fmt: skip
    for one in others:
        if one.part != "calibration":
            continue
        kind = one.kind
        groups[
            (
                "calibration", kind, one.filter,
                None if kind in ("bias", "flat") else one.exposure_s,
                None if kind == "flat" else _degree(one.temperature_c),
                headers.of_frames[one.id], evenings.get(one.night_id or 0, ""), one.kit,
            )
        ].append(one.id)  # fmt: skip
    stacks = []
    for key, members in groups.items():
        part, kind, name, exposure_s, degree, settings, night, kit = key
        thin = part == "calibration" and len(members) < _THIN
        words = f"thin: {len(members)}, {_THIN} or more make a quiet master" if thin else ""
        stacks.append(
            Stack(
                part=part, kind=kind, filter=name, exposure_s=exposure_s, temperature_c=degree,
                settings=settings, night=night, kit=kit, count=len(members), words=words,
                ids=members,
            )
        )  # fmt: skip
    order = {kind: place for place, kind in enumerate(KINDS)}
    return sorted(
        stacks, key=lambda s: (s.night, order.get(s.kind, 9), s.filter, s.exposure_s or 0)
    )


def _degree(temperature_c: float | None) -> int | None:
    return None if temperature_c is None else round(temperature_c)
