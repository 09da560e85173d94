"""Sort a night of mixed files by what their headers and pixels say, not by folder."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import fields, replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.colour import CHANNELS, channel_source, is_pattern, sites_of
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import (
    file_sha256,
    looks_like_fits,
    read_images,
)
from narrow_beacon.core.frames.frame import (
    Correction,
    Frame,
    LeftOut,
    RawFile,
    SortedNight,
    TimeRule,
)
from narrow_beacon.core.frames.header import FrameFacts, Reading
from narrow_beacon.core.frames.levels import odd_level, unusable
from narrow_beacon.core.frames.several import Exposed, exposures_in
from narrow_beacon.core.frames.strangers import what_is
from narrow_beacon.core.words import counted

OBSERVER = "observer"
"""The keyword of facts that the observer gave in place of the header."""
SKY_STARS = 20
"""So many sure stars on a bias or dark show that it is none."""
_NO_FACTS = ("shift_s", "moment", "aside")
"""Words on the header's time and on the file, and not facts themselves."""
_DARK_KINDS = ("bias", "dark", "flat dark")


def read_raw(path: Path, name: str) -> RawFile:
    """The first of ``read_raws``."""
    return read_raws(path, name)[0]


def read_raws(path: Path, name: str, *, hashed: bool = True) -> list[RawFile]:
    """Read what a file says of itself, and each image in it of its own. Never raises for a bad
    file: ``problem`` has the reason. Without ``hashed`` it is not named by its content yet, which
    takes longer than all the rest.
    """
    try:
        if not looks_like_fits(path):
            return [_problem(name, f"not a FITS file, but {what_is(path)}")]
        images = read_images(path)
        sha256 = file_sha256(path) if hashed else ""
    except UnreadableFileError as error:
        return [_problem(name, str(error).removeprefix(f"{path.name}: "))]
    except OSError as error:
        return [_problem(name, f"cannot be opened: {error.strerror}")]
    found = exposures_in(images)
    if isinstance(found, str):
        return [RawFile(name, sha256, None, None, found)]
    return [_raw_of(one, name, sha256) for one in found]


def _problem(name: str, words: str) -> RawFile:
    return RawFile(name, "", None, None, words)


def _raw_of(one: Exposed, name: str, sha256: str) -> RawFile:
    sections = one.facts.sections
    source = one.image.source
    source = source.limited_to(sections.value) if sections else source
    return RawFile(f"{name}{one.part}", sha256, source, one.facts, "", part=one.part)


def inspect_file(
    path: Path, name: str, default_filter: str | None, rule: TimeRule
) -> Frame | LeftOut:
    """Read what a file is. Never raises for a bad file: it is left out with the reason."""
    return settle(read_raw(path, name), default_filter, rule)


def settle(
    raw: RawFile, default_filter: str | None, rule: TimeRule, word: Correction | None = None
) -> Frame | LeftOut:
    """What a file counts as, by its header and the observer's ``word``, which comes first."""
    if raw.source is None or raw.facts is None:
        return LeftOut(raw.name, raw.problem)
    facts = _corrected(raw.facts, word) if word else raw.facts
    kind = facts.kind.value if facts.kind else ""
    said = facts.filter.value if facts.filter else default_filter
    name = None if said is None else filter_name(said)
    mosaic = rule.pattern or (facts.mosaic.value if facts.mosaic else None)
    if (facts.binning and facts.binning.value != (1, 1)) or not is_pattern(mosaic or ""):
        mosaic = None  # colours are added up when pixels are
    if mosaic and kind in ("exposure", "flat") and name is None:
        name = ""
    exclude = raw.problem or _exclude_reason(facts, kind, name) or _contradiction(facts, kind)
    if word and word.aside:
        exclude = f"set aside: {word.aside}"
    if not exclude and kind in _DARK_KINDS and raw.sky_stars >= SKY_STARS and not _said(facts.kind):
        stars = counted(raw.sky_stars, "star is", "stars are")
        exclude = f"wrong kind: called a {kind}, but {stars} on it"
    if exclude:
        return LeftOut(raw.name, exclude, kind, name or "", raw.sha256)
    if kind in ("dark", "flat dark") and facts.exposure_s and facts.exposure_s.value == 0:
        kind = "bias"
    assert facts.exposure_s is not None or kind == "bias"
    exposure_s = facts.exposure_s.value if facts.exposure_s else 0.0
    if word and word.moment:
        rule = replace(rule, header_time="start")  # whatever the kit's usual one is
    mid = _middle(facts, exposure_s, rule)
    return Frame(
        name=raw.name,
        sha256=raw.sha256,
        source=raw.source,
        facts=facts,
        kind=kind,
        filter=(name or None) if kind in ("exposure", "flat") else None,
        mid_utc=mid,
        exposure_s=exposure_s,
        temperature_c=facts.temperature_c.value if facts.temperature_c else None,
        night=night_of(mid, rule.longitude_deg) if mid else "",
        levels=raw.levels if kind != "exposure" else None,
        pixels_print=raw.pixels_print,
        camera=facts.camera.value if facts.camera else None,
        mosaic=mosaic,
        part=raw.part,
    )


def channels_of(frame: Frame) -> list[Frame]:
    """An exposure of a colour sensor taken apart; any other as it is."""
    if not frame.mosaic or frame.channel:
        return [frame]
    origin = frame.facts.mosaic_origin if frame.facts.mosaic else (0, 0)
    parts = []
    for channel in CHANNELS:
        sites = sites_of(frame.mosaic, origin, channel, frame.source.first)
        sources = [channel_source(frame.source, site) for site in sites]
        parts.append(
            replace(
                frame, name=f"{frame.name} [{channel}]", source=sources[0], filter=channel,
                channel=channel, glass=frame.filter, whole=frame.shape,
                second=sources[1] if len(sources) > 1 else None,
            )
        )  # fmt: skip
    return parts


def _corrected(facts: FrameFacts, word: Correction) -> FrameFacts:
    said = {
        field.name: Reading(getattr(word, field.name), OBSERVER)
        for field in fields(word)
        if getattr(word, field.name) is not None and field.name not in _NO_FACTS
    }
    facts = replace(facts, **said)  # type: ignore[arg-type]
    if word.time_utc is not None:
        return replace(facts, time_is_middle=False)
    if facts.time_utc is None or (word.shift_s is None and word.moment is None):
        return facts
    time = facts.time_utc.value + timedelta(seconds=word.shift_s or 0.0)
    middle = facts.time_is_middle
    if word.moment is not None:
        middle = word.moment == "middle"
        if word.moment == "end" and facts.exposure_s:
            time -= timedelta(seconds=facts.exposure_s.value)
    return replace(facts, time_utc=Reading(time, OBSERVER), time_is_middle=middle)


def _said(reading: Reading[str] | None) -> bool:
    return reading is not None and reading.keyword == OBSERVER


def _contradiction(facts: FrameFacts, kind: str) -> str | None:
    """What a header says twice, unlike, where it matters and the observer has not said."""
    matters = {"kind": True, "exposure_s": kind != "bias", "time_utc": kind == "exposure"}
    for name, words in facts.conflicts.items():
        if not matters.get(name, False):  # what is only taken for something is a remark
            continue
        reading = getattr(facts, name)
        if not (reading and reading.keyword == OBSERVER):
            return f"{words}; say in Intake what holds"
    return None


def _exclude_reason(facts: FrameFacts, kind: str, name: str | None) -> str | None:
    if facts.processed:
        return facts.processed
    if not kind:
        return "its header does not say what kind of frame it is"
    if facts.exposure_s is None and kind != "bias":
        return "its header gives no exposure time"
    if kind == "exposure" and facts.exposure_s is not None and facts.exposure_s.value <= 0:
        return f"its header gives an exposure time of 0 s ({facts.exposure_s.keyword})"
    if kind == "exposure" and facts.time_utc is None:
        if facts.time_system:
            return (
                f"its header's time is in {facts.time_system}, which is no known scale; give it in "
                "UTC in Intake"
            )
        return "its header gives no time"
    if kind in ("exposure", "flat") and name is None:
        return (
            "its header gives no filter; give it in Intake, or as filter under [frames] in a plan"
        )
    return None


def _middle(facts: FrameFacts, exposure_s: float, rule: TimeRule) -> datetime | None:
    if facts.time_utc is None:
        return None
    is_middle = facts.time_is_middle or rule.header_time == "middle"
    shift_s = rule.clock_offset_s + (0.0 if is_middle else exposure_s / 2.0)
    return facts.time_utc.value + timedelta(seconds=shift_s)


def night_of(moment_utc: datetime, longitude_deg: float) -> str:
    """The date of the evening on which the night of ``moment_utc`` began, local mean time."""
    local = moment_utc + timedelta(hours=longitude_deg / 15.0 - 12.0)
    return local.date().isoformat()


def longitude_by_pause(hours_utc: Floats) -> float:
    """A longitude in degrees that keeps nights together where the site is unknown, from the times
    of day of exposures of the sky: 0, unless some were taken about noon there; then that at which
    the middle of the longest pause is noon.
    """
    hours = np.unique(hours_utc)
    if hours.size < 2:
        return 0.0
    gaps = np.diff(np.append(hours, hours[0] + 24.0))
    at = int(np.argmax(gaps))
    first, last = float(hours[at]), float(hours[at] + gaps[at])
    if first < 12.0 < last or first < 36.0 < last:
        return 0.0
    noon_utc = 0.5 * (first + last)
    return float((12.0 - noon_utc) * 15.0 + 180.0) % 360.0 - 180.0


def sort_night(
    inspected: Sequence[Frame | LeftOut], linear_limit_adu: float | None = None
) -> SortedNight:
    """Separate exposures from calibration frames; leave out what does not belong, with reasons."""
    left_out = [item for item in inspected if isinstance(item, LeftOut)]
    frames = [item for item in inspected if isinstance(item, Frame)]
    frames = _name_telescopes(_name_cameras(_drop_duplicates(frames, left_out)))
    exposures = [f for frame in frames if frame.kind == "exposure" for f in channels_of(frame)]
    calibration = [frame for frame in frames if frame.kind != "exposure"]
    calibration = _drop_unusable(calibration, linear_limit_adu, left_out)
    calibration = _drop_odd_calibration(calibration, left_out)
    exposures.sort(key=lambda frame: (frame.mid_utc, frame.name))
    calibration.sort(key=lambda frame: (frame.kind, frame.filter or "", frame.name))
    left_out.sort(key=lambda item: item.name)
    return SortedNight(tuple(exposures), tuple(calibration), tuple(left_out))


def leave_out(frame: Frame, reason: str) -> LeftOut:
    """A frame that takes no part, with the reason."""
    return LeftOut(frame.name, reason, frame.kind, frame.filter or "", frame.sha256)


def _drop_duplicates(frames: list[Frame], left_out: list[LeftOut]) -> list[Frame]:
    first: dict[object, str] = {}
    kept = []
    for frame in frames:
        own = (frame.sha256 or frame.file, frame.part)
        twin = (*moment_of(frame), frame.pixels_print) if frame.pixels_print else own
        if own in first:
            left_out.append(leave_out(frame, f"the same file as {first[own]}"))
        elif twin in first:
            words = f"the same exposure as {first[twin]}, stored in another way"
            left_out.append(leave_out(frame, words))
        else:
            first[own] = first[twin] = frame.name
            kept.append(frame)
    return kept


def moment_of(frame: Frame) -> tuple[object, ...]:
    """What two files of one exposure have in common, however they are stored."""
    return frame.kind, frame.mid_utc, frame.exposure_s, frame.shape


def twins(inspected: Sequence[Frame | LeftOut]) -> list[Frame]:
    """Frames that may be one exposure, stored in several ways: their pixels have to tell."""
    by_moment: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for item in inspected:
        if isinstance(item, Frame) and item.mid_utc is not None:
            by_moment[moment_of(item)].append(item)
    return [
        frame
        for same in by_moment.values()
        if len({frame.sha256 for frame in same}) > 1
        for frame in same
    ]


def _drop_unusable(
    frames: list[Frame], linear_limit_adu: float | None, left_out: list[LeftOut]
) -> list[Frame]:
    """Leave out calibration frames that show nothing, and flats that are too bright."""
    kept = []
    for frame in frames:
        header = frame.facts.linear_limit_adu
        # DATAMAX is often the file's own highest value.
        said = header.value if header and header.keyword != "DATAMAX" else None
        reason = frame.levels and unusable(frame.levels, frame.kind, linear_limit_adu or said)
        if reason:
            left_out.append(leave_out(frame, reason))
        else:
            kept.append(frame)
    return kept


def _name_cameras(frames: list[Frame]) -> list[Frame]:
    """Give frames that don't state their camera the only one that has their size and binning."""
    stated: dict[tuple[object, ...], set[str]] = defaultdict(set)
    for frame in frames:
        if frame.camera:
            stated[frame.sensor_shape, frame.binning].add(frame.camera)
    only = {key: next(iter(names)) for key, names in stated.items() if len(names) == 1}
    return [
        frame
        if frame.camera
        else replace(frame, camera=only.get((frame.sensor_shape, frame.binning)))
        for frame in frames
    ]


def _name_telescopes(frames: list[Frame]) -> list[Frame]:
    """Tell frames of one sensor apart by telescope, where it was on several."""
    on: dict[str, set[str]] = defaultdict(set)
    for frame in frames:
        if frame.facts.telescope:
            on[frame.sensor].add(frame.facts.telescope.value)
    return [
        replace(frame, telescope=frame.facts.telescope.value)
        if frame.facts.telescope and len(on[frame.sensor]) > 1
        else frame
        for frame in frames
    ]


def _drop_odd_calibration(frames: list[Frame], left_out: list[LeftOut]) -> list[Frame]:
    """Leave out calibration frames whose level or scatter is not that of their like."""
    groups: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for frame in frames:
        degree = None if frame.temperature_c is None else round(frame.temperature_c)
        own = (frame.kind, frame.filter, frame.kit, frame.setting)
        groups[own if frame.kind == "flat" else (*own, frame.exposure_s, degree)].append(frame)
    kept = []
    for members in groups.values():
        for frame in members:
            like = [f.levels for f in members if f is not frame and f.levels]
            reason = None
            if frame.levels and not _said(frame.facts.kind):
                reason = odd_level(frame.levels, frame.kind, like)
            if reason:
                left_out.append(leave_out(frame, reason))
            else:
                kept.append(frame)
    return kept
