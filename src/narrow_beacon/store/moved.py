"""Files that were moved: what is known of them follows their content."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping, Sequence, Set
from pathlib import Path
from typing import Any

from sqlalchemy import collate, false, func, or_, select
from sqlalchemy.orm import Session

from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.store.files import (
    AT_ONCE,
    BARE,
    below_folders,
    colour_key,
    rank,
    raws_of,
    some_files,
)
from narrow_beacon.store.models import Campaign, NightFile

_OF_PLACE = ("path", "path_sha256", "name", "size", "modified_ns", "raw", "away")
"""What a record says of where its file lies, and how."""
_WORDS = ("aside_by", "aside_reason", "kept", "correction")
_SAID = or_(
    NightFile.aside_by == "observer", NightFile.kept, func.json_length(NightFile.correction) > 0
)
"""Whether the observer said something of a file."""
_PACKED = re.compile(r"\.(fz|gz)$", re.IGNORECASE)


def follow_moved(session: Session, campaign: Campaign) -> bool:
    """Let the first record of each content, by ``rank``, be that of a file that is there: where its
    own is gone and another has the same content, both change places, so that placements, measures,
    what was handed out and the observer's words stay with the image. Whether any did.
    """
    columns = (
        NightFile.id, NightFile.path, NightFile.part, NightFile.sha256, NightFile.away, BARE, _SAID,
    )  # fmt: skip
    known = (
        NightFile.campaign_id == campaign.id, NightFile.parent_id.is_(None), NightFile.sha256 != "",
    )  # fmt: skip
    path = collate(NightFile.path, "utf8mb4_bin")  # a folder may differ by its capitals alone
    below = [path.startswith(f"{one.rstrip('/')}/", autoescape=True) for one in campaign.folders]
    gone = or_(NightFile.away, ~or_(false(), *below, path.in_(campaign.folders)))
    if session.scalars(select(NightFile.id).where(*known, gone).limit(1)).first() is None:
        return False
    asked = select(*columns).where(*known)
    there: dict[int, bool] = {}
    places: dict[int, str] = {}
    spoken: dict[int, str] = {}
    bare: set[int] = set()
    alike: dict[str, list[tuple[bool, bool, int]]] = defaultdict(list)
    for number, place, part, sha256, away, nothing, words in session.execute(asked):
        there[number] = not away and below_folders(campaign, place)
        alike[sha256].append((*rank(nothing, part), number))
        places[number] = place
        if nothing:
            bare.add(number)
        if words:
            spoken[number] = place
    several = [[number for *_, number in sorted(same)] for same in alike.values() if len(same) > 1]
    pairs = []
    for numbers in several:
        if not there[numbers[0]] and any(there[one] for one in numbers):
            pairs += _pairs(numbers, there, raws_of(session, numbers))
    _change_places(session, pairs, bare)
    paired = {number for pair in pairs for number in pair}
    gone_with_words = {n: place for n, place in spoken.items() if not there[n] and n not in paired}
    arrived = {n: places[n] for n in bare if there[n] and n not in paired}
    handed = _hand_over_words(session, gone_with_words, arrived)
    return bool(pairs) or handed


def _hand_over_words(session: Session, gone: Mapping[int, str], arrived: Mapping[int, str]) -> bool:
    """What the observer said of files that are gone holds for those that arrived, packed or
    unpacked, under their names and with the same header; whether there were any.
    """
    by_name: dict[str, list[int]] = defaultdict(list)
    for number, path in arrived.items():
        by_name[_plain_name(path)].append(number)
    pairs = [
        (number, by_name[name][0])
        for number, path in gone.items()
        if len(by_name.get(name := _plain_name(path), ())) == 1
    ]
    raws = raws_of(session, [number for pair in pairs for number in pair])
    pairs = [(one, other) for one, other in pairs if _says(raws[one]) == _says(raws[other])]
    files = some_files(session, [number for pair in pairs for number in pair])
    for one, other in pairs:
        for name in _WORDS:
            setattr(files[other], name, getattr(files[one], name))
    return bool(pairs)


def _plain_name(path: str) -> str:
    return _PACKED.sub("", Path(path).name)


def _says(raw: RawFile) -> tuple[object, ...]:
    """What an image's header says, and its size."""
    return raw.facts, raw.source and (raw.source.height, raw.source.width)


def _pairs(
    numbers: Sequence[int], there: Mapping[int, bool], raws: Mapping[int, RawFile]
) -> list[tuple[int, int]]:
    """Of records with the same content the first and the one that is there; a file may hold several
    images.
    """
    pairs = []
    for part in {raws[number].part for number in numbers}:
        first, *others = [number for number in numbers if raws[number].part == part]
        found = next((number for number in others if there[number]), None)
        if found is not None and not there[first]:
            pairs.append((first, found))
    return pairs


def _change_places(session: Session, pairs: Sequence[tuple[int, int]], bare: Set[int]) -> None:
    """Let the file of the second of each pair of records be that of the first."""
    numbers = [number for pair in pairs for number in pair]
    files = some_files(session, numbers)
    colours: dict[int, list[NightFile]] = defaultdict(list)
    for begin in range(0, len(numbers), AT_ONCE):
        some = NightFile.parent_id.in_(numbers[begin : begin + AT_ONCE])
        for record in session.scalars(select(NightFile).where(some)):
            colours[record.parent_id or 0].append(record)
    places = {
        number: {name: getattr(files[number], name) for name in _OF_PLACE} for number in numbers
    }
    for record in (*files.values(), *(one for own in colours.values() for one in own)):
        record.path_sha256 = f"moved {record.id}"  # no two may have the same, not for a moment
    session.flush()
    for one, other in pairs:
        _put(files[one], places[other], colours[one])
        # Read just now, it has nothing that its old place would be remembered for.
        if other in bare and not any(c.placed_with or c.aside_by for c in colours[other]):
            for record in (*colours[other], files[other]):
                session.delete(record)
        else:
            _put(files[other], places[one], colours[other])
    session.flush()


def _put(file: NightFile, place: Mapping[str, Any], colours: Sequence[NightFile]) -> None:
    for name, value in place.items():
        setattr(file, name, value)
    for colour in colours:
        colour.path, colour.path_sha256 = file.path, colour_key(file.path, colour.filter)
