"""Sort a night of mixed files by what their headers and pixels say, not by folder."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import (
    PixelSource,
    file_sha256,
    looks_like_fits,
    read_image,
)
from narrow_beacon.core.frames.header import FrameFacts, Reading, interpret

OBSERVER = "observer"
"""The keyword of facts that the observer gave in place of the header."""
SKY_STARS = 20
"""So many sure stars on a bias or dark show that it is none."""
_DARK_KINDS = ("bias", "dark", "flat dark")
_LEVEL_STEP = 5  # every fifth row and column is enough for a frame's level
_LEVEL_DEPARTURE = 12.0  # robust standard deviations from the like frames
_LEAST_DEPARTURE_ADU = 8.0
_SCATTER_RATIO = 1.5


@dataclass(frozen=True)
class Levels:
    """Median and robust scatter of a frame's pixels, in ADU."""

    median_adu: float
    scatter_adu: float


@dataclass(frozen=True)
class Frame:
    """One file of the night: where it is, what it is, and what its header says."""

    name: str
    sha256: str
    source: PixelSource
    facts: FrameFacts
    kind: str
    filter: str | None
    mid_utc: datetime | None
    exposure_s: float
    temperature_c: float | None
    night: str
    levels: Levels | None = None
    """Of calibration frames, once their pixels were read."""
    camera: str | None = None
    """Where stated, or where only one camera has this size and binning."""

    @property
    def binning(self) -> tuple[int, int]:
        """Binning in x and y; 1 × 1 where the header is silent."""
        return self.facts.binning.value if self.facts.binning else (1, 1)

    @property
    def gain_setting(self) -> float | None:
        """The camera's gain setting, where stated."""
        return self.facts.gain_setting.value if self.facts.gain_setting else None

    @property
    def offset_setting(self) -> float | None:
        """The camera's offset setting, where stated."""
        return self.facts.offset_setting.value if self.facts.offset_setting else None

    @property
    def readout_mode(self) -> str | None:
        """The camera's readout mode, where stated."""
        return self.facts.readout_mode.value if self.facts.readout_mode else None

    @property
    def shape(self) -> tuple[int, int]:
        """(height, width) in pixels."""
        return self.source.height, self.source.width

    @property
    def kit(self) -> str:
        """Camera, size and binning in words: what is corrected and measured together."""
        height, width = self.shape
        parts = [self.camera or "camera", f"{width} × {height}"]
        if self.binning != (1, 1):
            parts.append("binned {} × {}".format(*self.binning))
        return ", ".join(parts)


@dataclass(frozen=True)
class LeftOut:
    """A file that takes no part, and why."""

    name: str
    reason: str
    kind: str = ""
    filter: str = ""
    sha256: str = ""


@dataclass(frozen=True)
class RawFile:
    """One file as it is: its header's facts, or the problem that keeps it from having any."""

    name: str
    sha256: str
    source: PixelSource | None
    facts: FrameFacts | None
    problem: str
    levels: Levels | None = None
    """Of what its header calls a calibration frame."""
    sky_stars: int = 0
    """Sure stars on what its header calls a bias or a dark."""


@dataclass(frozen=True)
class Correction:
    """What the observer says of a file, in place of its header. Absent values are None."""

    kind: str | None = None
    filter: str | None = None
    exposure_s: float | None = None
    time_utc: datetime | None = None


@dataclass(frozen=True)
class TimeRule:
    """How the header's time becomes the middle of the exposure."""

    header_time: str = "start"
    clock_offset_s: float = 0.0
    longitude_deg: float = 0.0


@dataclass(frozen=True)
class SortedNight:
    """What a set of files holds."""

    exposures: tuple[Frame, ...]
    calibration: tuple[Frame, ...]
    left_out: tuple[LeftOut, ...]


def read_raw(path: Path, name: str) -> RawFile:
    """Read what a file says of itself. Never raises for a bad file: ``problem`` has the reason."""
    try:
        if not looks_like_fits(path):
            return RawFile(name, "", None, None, "not a FITS file")
        image = read_image(path)
        sha256 = file_sha256(path)
    except UnreadableFileError as error:
        return RawFile(name, "", None, None, str(error).removeprefix(f"{path.name}: "))
    except OSError as error:
        return RawFile(name, "", None, None, f"cannot be opened: {error.strerror}")
    return RawFile(name, sha256, image.source, interpret(image), "")


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
    exclude = raw.problem or _exclude_reason(facts, kind, name)
    if not exclude and kind in _DARK_KINDS and raw.sky_stars >= SKY_STARS and not _said(facts.kind):
        exclude = f"wrong kind: called a {kind}, but {raw.sky_stars} stars are on it"
    if exclude:
        return LeftOut(raw.name, exclude, kind, name or "", raw.sha256)
    assert facts.exposure_s is not None or kind == "bias"
    exposure_s = facts.exposure_s.value if facts.exposure_s else 0.0
    mid = _middle(facts, exposure_s, rule)
    return Frame(
        name=raw.name,
        sha256=raw.sha256,
        source=raw.source,
        facts=facts,
        kind=kind,
        filter=name if kind in ("exposure", "flat") else None,
        mid_utc=mid,
        exposure_s=exposure_s,
        temperature_c=facts.temperature_c.value if facts.temperature_c else None,
        night=night_of(mid, rule.longitude_deg) if mid else "",
        levels=raw.levels if kind != "exposure" else None,
        camera=facts.camera.value if facts.camera else None,
    )


def _corrected(facts: FrameFacts, word: Correction) -> FrameFacts:
    said = {
        field.name: Reading(getattr(word, field.name), OBSERVER)
        for field in fields(word)
        if getattr(word, field.name) is not None
    }
    if word.time_utc is not None:
        return replace(facts, time_is_middle=False, **said)  # type: ignore[arg-type]
    return replace(facts, **said)  # type: ignore[arg-type]


def _said(reading: Reading[str] | None) -> bool:
    return reading is not None and reading.keyword == OBSERVER


def _exclude_reason(facts: FrameFacts, kind: str, name: str | None) -> str | None:
    if facts.processed:
        return facts.processed
    if not kind:
        return "its header does not say what kind of frame it is"
    if facts.exposure_s is None and kind != "bias":
        return "its header gives no exposure time"
    if kind == "exposure" and facts.time_utc is None:
        if facts.time_system:
            return (
                f"its header's time is in {facts.time_system}, which is no known scale; give it in "
                "UTC in Intake"
            )
        return "its header gives no time"
    if kind in ("exposure", "flat") and name is None:
        return "its header gives no filter; set [frames] filter in the plan if there was one"
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


def levels_of(pixels: Plane) -> Levels:
    """Level and scatter of a frame (height, width) from a sample of its pixels."""
    sample = pixels[::_LEVEL_STEP, ::_LEVEL_STEP]
    if not np.isfinite(sample).any():
        raise UnreadableFileError("not one of its pixels has a value")
    median = float(np.nanmedian(sample))
    return Levels(median, 1.4826 * float(np.nanmedian(np.abs(sample - median))))


def sort_night(inspected: Sequence[Frame | LeftOut]) -> SortedNight:
    """Separate exposures from calibration frames; leave out what does not belong, with reasons."""
    left_out = [item for item in inspected if isinstance(item, LeftOut)]
    frames = [item for item in inspected if isinstance(item, Frame)]
    frames = _name_cameras(_drop_duplicates(frames, left_out))
    exposures = [frame for frame in frames if frame.kind == "exposure"]
    calibration = [frame for frame in frames if frame.kind != "exposure"]
    calibration = _drop_odd_calibration(calibration, left_out)
    exposures.sort(key=lambda frame: (frame.mid_utc, frame.name))
    calibration.sort(key=lambda frame: (frame.kind, frame.filter or "", frame.name))
    left_out.sort(key=lambda item: item.name)
    return SortedNight(tuple(exposures), tuple(calibration), tuple(left_out))


def leave_out(frame: Frame, reason: str) -> LeftOut:
    """A frame that takes no part, with the reason."""
    return LeftOut(frame.name, reason, frame.kind, frame.filter or "", frame.sha256)


def _drop_duplicates(frames: list[Frame], left_out: list[LeftOut]) -> list[Frame]:
    first: dict[str, str] = {}
    kept = []
    for frame in frames:
        if frame.sha256 in first:
            left_out.append(leave_out(frame, f"the same file as {first[frame.sha256]}"))
        else:
            first[frame.sha256] = frame.name
            kept.append(frame)
    return kept


def _name_cameras(frames: list[Frame]) -> list[Frame]:
    """Give frames that don't state their camera the only one that has their size and binning."""
    stated: dict[tuple[object, ...], set[str]] = defaultdict(set)
    for frame in frames:
        if frame.camera:
            stated[frame.shape, frame.binning].add(frame.camera)
    only = {key: next(iter(names)) for key, names in stated.items() if len(names) == 1}
    return [
        frame if frame.camera else replace(frame, camera=only.get((frame.shape, frame.binning)))
        for frame in frames
    ]


def _drop_odd_calibration(frames: list[Frame], left_out: list[LeftOut]) -> list[Frame]:
    """Leave out calibration frames whose level or scatter is not that of their like."""
    groups: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for frame in frames:
        degree = None if frame.temperature_c is None else round(frame.temperature_c)
        own = (frame.kind, frame.filter, frame.kit)
        like = (*own, frame.exposure_s, frame.gain_setting, degree)
        groups[like if frame.kind != "flat" else own].append(frame)
    kept = []
    for members in groups.values():
        for frame in members:
            reason = _odd_level(frame, [other for other in members if other is not frame])
            if reason:
                left_out.append(leave_out(frame, reason))
            else:
                kept.append(frame)
    return kept


def _odd_level(frame: Frame, others: list[Frame]) -> str | None:
    if len(others) < 3 or frame.levels is None or _said(frame.facts.kind):
        return None
    medians = np.array([other.levels.median_adu for other in others if other.levels])
    scatters = np.array([other.levels.scatter_adu for other in others if other.levels])
    usual = float(np.median(medians))
    usual_scatter = float(np.median(scatters))
    level, scatter = frame.levels.median_adu, frame.levels.scatter_adu
    if frame.kind == "flat":
        if level < 0.2 * usual:
            return (
                f"wrong kind or too dim: called a flat, but its level of {level:.0f} ADU is far "
                f"below the {usual:.0f} ADU of the other {len(others)}"
            )
        return None
    spread = 1.4826 * float(np.median(np.abs(medians - usual)))
    allowed = max(_LEAST_DEPARTURE_ADU, _LEVEL_DEPARTURE * spread)
    if abs(level - usual) > allowed or scatter > _SCATTER_RATIO * max(usual_scatter, 1.0):
        return (
            f"wrong kind: called a {frame.kind}, but its level of {level:.0f} ± {scatter:.0f} ADU "
            f"is not the {usual:.0f} ± {usual_scatter:.0f} ADU of the other {len(others)}"
        )
    return None
