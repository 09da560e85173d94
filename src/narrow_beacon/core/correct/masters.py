"""Masters: group a night's calibration frames, combine each group, and keep the result as FITS so
that a later night can use it again.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.combine import Combined, combine
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.frames.levels import levels_of
from narrow_beacon.core.kits import CLIPPED, USUAL_RULES, Rules

MASTER_KIND = "NBMASTER"
_TEMPERATURE_STEP_C = 1.0
_SAMPLE_STEP = 3


@dataclass(frozen=True)
class MasterFacts:
    """What a master is: everything that matching needs, and what went into it."""

    kind: str
    filter: str | None
    exposure_s: float
    temperature_c: float | None
    gain_setting: float | None
    offset_setting: float | None
    readout_mode: str | None
    binning: tuple[int, int]
    shape: tuple[int, int]
    night: str
    count: int
    level_adu: float
    clipped_share: float
    inputs: tuple[tuple[str, str], ...]
    """(file, SHA-256) of every frame that went in."""
    made_with: tuple[str, ...] = ()
    """Keys of the masters that were taken off first."""
    camera: str | None = None
    origin: tuple[int, int] | None = None
    """Of the sub-frame on the sensor; None where the header does not say."""
    overscan: bool = False
    """Whether the level of every row was taken off by the frames' overscan."""
    telescope: str | None = None
    """Of a flat, where its camera was on more than one."""
    noise_adu: float | None = None
    """Scatter of single pixels against their neighbours; of a flat relative to 1."""
    combined: str = CLIPPED
    """How: one of COMBINATIONS."""
    clip_sigma: float = USUAL_RULES.clip_sigma
    rotator_deg: float | None = None
    """Of a flat: the rotator's angle, where stated."""
    focus_position: float | None = None

    @property
    def label(self) -> str:
        """A short name in words: "dark 60 s −10 °C"."""
        parts = [self.kind]
        if self.filter:
            parts.append(self.filter)
        if self.kind in ("dark", "flat dark"):
            parts.append(f"{self.exposure_s:g} s")
        if self.temperature_c is not None and self.kind != "flat":
            parts.append(f"{self.temperature_c:.0f} °C".replace("-", "−"))
        return " ".join([*parts, f"of {self.night}"] if self.night else parts)

    @property
    def key(self) -> str:
        """A name that no other master of the same nights has, and that stays when it is rebuilt."""
        settings = (
            self.gain_setting, self.offset_setting, self.readout_mode, *self.binning,
            *((self.camera,) if self.camera else ()), *reversed(self.shape),
            *(self.origin or ()), *(("overscan off",) if self.overscan else ()),
            *((self.telescope,) if self.telescope else ()),
            *((f"rotator {self.rotator_deg:.0f}°",) if self.rotator_deg is not None else ()),
        )  # fmt: skip
        return f"{self.label} ({', '.join(str(value) for value in settings)})"


@dataclass(frozen=True)
class Master:
    """A master plane in ADU (flats: relative to 1)."""

    facts: MasterFacts
    plane: Plane


def group_calibration(frames: Sequence[Frame]) -> list[list[Frame]]:
    """Calibration frames that belong together: same kind, settings, night and, within 1 °C,
    temperature; flats by filter, whatever their exposure time.
    """
    coarse: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for frame in frames:
        settings = (frame.gain_setting, frame.offset_setting, frame.readout_mode, frame.binning)
        exposure_s = 0.0 if frame.kind in ("bias", "flat") else frame.exposure_s
        coarse[
            (
                frame.kind,
                frame.filter or "",
                exposure_s,
                str(settings),
                frame.night,
                frame.kit if frame.kind == "flat" else frame.sensor,
                frame.overscan,
                _angle(frame),
            )
        ].append(frame)
    groups = []
    for key in sorted(coarse, key=str):
        members = coarse[key]
        if members[0].kind == "flat":
            groups.append(members)
            continue
        members = sorted(members, key=lambda f: (f.temperature_c is None, f.temperature_c or 0.0))
        run = [members[0]]
        for frame in members[1:]:
            last = run[-1].temperature_c
            now = frame.temperature_c
            if (last is None) != (now is None) or (
                last is not None and now is not None and now - last > _TEMPERATURE_STEP_C
            ):
                groups.append(run)
                run = []
            run.append(frame)
        groups.append(run)
    return [sorted(group, key=lambda frame: frame.name) for group in groups]


def _angle(frame: Frame) -> int | None:
    """The rotator's angle in whole degrees: flats of two angles are of two set-ups."""
    reading = frame.facts.rotator_deg
    return round(reading.value) % 360 if frame.kind == "flat" and reading is not None else None


def build_master(
    group: Sequence[Frame],
    scratch: Path,
    signal: Master | None = None,
    rules: Rules = USUAL_RULES,
) -> Master:
    """Combine a group by the kit's ``rules``. ``signal`` (a flat dark, dark or bias) is taken off
    flats first, and each flat is scaled to a median of 1, so that a fading twilight does not weigh
    the frames.
    """
    sources = [frame.source for frame in group]
    way = {"method": rules.combine, "kappa": rules.clip_sigma}
    if group[0].kind == "flat":
        base = signal.plane if signal else None
        scales = np.array([1.0 / _flat_level(frame, base) for frame in group])
        made = combine(sources, scratch, subtract=base, scales=scales, **way)  # type: ignore[arg-type]
        centre = float(np.nanmedian(made.plane[::_SAMPLE_STEP, ::_SAMPLE_STEP]))
        made = Combined(made.plane / np.float32(centre), made.count, made.clipped_share)
        level = float(np.median(1.0 / scales))
    else:
        made = combine(sources, scratch, **way)  # type: ignore[arg-type]
        level = float(np.nanmedian(made.plane[::_SAMPLE_STEP, ::_SAMPLE_STEP]))
    temperatures = [f.temperature_c for f in group if f.temperature_c is not None]
    first = group[0]
    facts = MasterFacts(
        kind=first.kind,
        filter=first.filter,
        exposure_s=float(np.median([frame.exposure_s for frame in group])),
        temperature_c=float(np.median(temperatures)) if temperatures else None,
        gain_setting=first.gain_setting,
        offset_setting=first.offset_setting,
        readout_mode=first.readout_mode,
        binning=first.binning,
        shape=first.shape,
        night=first.night,
        count=made.count,
        level_adu=level,
        clipped_share=made.clipped_share,
        inputs=tuple((frame.name, frame.sha256) for frame in group),
        made_with=(signal.facts.key,) if signal else (),
        camera=first.camera,
        origin=first.origin,
        overscan=first.overscan,
        telescope=first.telescope if first.kind == "flat" else None,
        noise_adu=scatter_of_single_pixels(made.plane),
        combined=rules.combine,
        clip_sigma=rules.clip_sigma,
        rotator_deg=_middle_of(group, "rotator_deg"),
        focus_position=_middle_of(group, "focus_position"),
    )
    return Master(facts, made.plane)


def _middle_of(group: Sequence[Frame], fact: str) -> float | None:
    """The median of what flats' headers say of their set-up; None for other kinds."""
    said = [getattr(frame.facts, fact) for frame in group if frame.kind == "flat"]
    values = [reading.value for reading in said if reading is not None]
    return float(np.median(values)) if values else None


def scatter_of_single_pixels(plane: Plane) -> float:
    """Robust scatter of single pixels against their neighbours."""
    apart = (plane[:, 1:] - plane[:, :-1])[::_SAMPLE_STEP, ::_SAMPLE_STEP]
    apart = apart[np.isfinite(apart)]
    return float(1.4826 * np.median(np.abs(apart - np.median(apart))) / np.sqrt(2.0))


def _flat_level(frame: Frame, base: Plane | None) -> float:
    """Level of a flat above its signal; from the inspection, or from its pixels."""
    levels = frame.levels or levels_of(read_pixels(frame.source))
    signal = 0.0 if base is None else float(np.nanmedian(base[::_SAMPLE_STEP, ::_SAMPLE_STEP]))
    return max(levels.median_adu - signal, 1.0)


def write_master(master: Master, path: Path) -> None:
    """Write a master as FITS: float32 pixels, its facts in a JSON column of an extension."""
    from astropy.io import fits

    header = fits.Header()
    header[MASTER_KIND] = (master.facts.kind, "kind of Narrow Beacon master")
    header["IMAGETYP"] = (f"master {master.facts.kind}", "kind of frame")
    if master.facts.filter:
        header["FILTER"] = master.facts.filter
    header["EXPTIME"] = (master.facts.exposure_s, "[s] of one frame that went in")
    if master.facts.temperature_c is not None:
        header["CCD-TEMP"] = (master.facts.temperature_c, "[Celsius] of the sensor")
    header["NCOMBINE"] = (master.facts.count, "frames combined")
    header["COMBINED"] = (master.facts.combined, "how the frames became one")
    header["BUNIT"] = "" if master.facts.kind == "flat" else "adu"
    for name in (*master.facts.made_with, *(" ".join(one) for one in master.facts.inputs)):
        header.add_history(name.replace("−", "-").encode("ascii", "replace").decode())
    text = json.dumps(asdict(master.facts))
    table = fits.BinTableHDU.from_columns(
        [fits.Column("facts", f"{len(text.encode())}A", array=np.array([text]))], name="FACTS"
    )
    temporary = path.with_suffix(".part")
    fits.HDUList([fits.PrimaryHDU(master.plane, header), table]).writeto(temporary, overwrite=True)
    temporary.replace(path)


def is_master(path: Path) -> bool:
    """Whether a file is a master that ``write_master`` wrote. Raises UnreadableFileError."""
    from astropy.io import fits

    try:
        with fits.open(path, memmap=False) as hdus:
            return MASTER_KIND in hdus[0].header
    except (OSError, ValueError) as error:
        raise UnreadableFileError(f"{path.name}: unreadable ({error}).") from error


def read_master(path: Path) -> Master:
    """A master written by ``write_master``. Raises UnreadableFileError."""
    from astropy.io import fits

    facts = read_facts(path)
    try:
        with fits.open(path, memmap=False) as hdus:
            return Master(facts, np.ascontiguousarray(hdus[0].data, np.float32))
    except (OSError, ValueError) as error:
        raise UnreadableFileError(f"{path.name}: unreadable master ({error}).") from error


def read_facts(path: Path) -> MasterFacts:
    """What a master is, without its pixels. Raises UnreadableFileError."""
    from astropy.io import fits

    try:
        with fits.open(path, memmap=False) as hdus:
            if MASTER_KIND not in hdus[0].header:
                raise UnreadableFileError(f"{path.name}: is not a master of this program.")
            values = json.loads(str(hdus["FACTS"].data["facts"][0]))
    except (OSError, KeyError, ValueError) as error:
        raise UnreadableFileError(f"{path.name}: unreadable master ({error}).") from error
    for name in ("binning", "shape", "made_with"):
        values[name] = tuple(values[name])
    if values.get("origin"):
        values["origin"] = tuple(values["origin"])
    if values["filter"]:
        values["filter"] = filter_name(values["filter"])
    values["inputs"] = tuple((name, sha256) for name, sha256 in values["inputs"])
    return MasterFacts(**values)
