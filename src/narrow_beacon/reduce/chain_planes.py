"""The planes of a chain: what is taken off, what is divided by, which pixels are repaired, and what
the noise model needs of them.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.apply import DEFECT, make_chain
from narrow_beacon.core.correct.combine import LEAST_TO_CLIP, combine, median_over_mean
from narrow_beacon.core.correct.dark_scale import fit_dark_scale
from narrow_beacon.core.correct.defects import (
    DefectRule,
    deviations_on_sky,
    enough_exposures,
    find_defects,
    sky_threshold,
)
from narrow_beacon.core.correct.local_median import local_median
from narrow_beacon.core.correct.masters import Master, MasterFacts, read_master
from narrow_beacon.core.correct.match import Choice
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import overscan_of, read_pixels
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import CLIPPED, MEDIAN, USUAL_RULES
from narrow_beacon.core.measure.noise import MastersNoise
from narrow_beacon.reduce.chain_plan import ChainPlan
from narrow_beacon.reduce.context import SECOND, save_chain
from narrow_beacon.reduce.masters import MasterFile

S = TypeVar("S", np.float32, np.uint8)
_SCALE_FRAMES = 5
_MOST_SCALE_UNCERTAINTY = 0.1


@dataclass(frozen=True)
class Planes:
    """What was found while a chain's planes were made."""

    scale: str
    dark_adu_per_s: float
    noise: MastersNoise
    defects: int
    overscan: str = ""
    seen_on: int = 0
    """Exposures on which the defects were found, where no dark shows them."""


def note_in(folder: Path) -> Path:
    """The last of a chain's files: with it the planes are whole."""
    return folder / "made.json"


def made_planes(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> Planes:
    """Make a chain's planes below a folder, where they are not there yet; what was found then."""
    note = note_in(folder)
    if note.exists():
        return _told(note.read_text())
    made = _made_of(plan, masters, examples, folder)
    if examples[0].second is not None:
        others = [replace(f, source=f.second) for f in examples if f.second is not None]
        other = _made_of(plan, masters, others, folder / SECOND)
        made = replace(made, defects=made.defects + other.defects)
    scratch = note.with_suffix(".new")
    scratch.write_text(json.dumps(asdict(made)))
    scratch.replace(note)
    return made


def _told(note: str) -> Planes:
    said = json.loads(note)
    return Planes(**{**said, "noise": MastersNoise(**said["noise"])})


def _made_of(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> Planes:
    def facts(choice: Choice) -> MasterFacts | None:
        return None if choice.index is None else masters[choice.index].facts

    def plane(choice: Choice) -> Plane | None:
        if choice.index is None:
            return None
        return _own_plane(read_master(masters[choice.index].path), examples[0])

    bias, dark, scaled, flat = (
        facts(c) for c in (plan.bias, plan.dark, plan.scaled_dark, plan.flat)
    )
    exposure_s = examples[0].exposure_s
    # Planes of a large sensor are hundreds of megabytes: only those that are needed are read.
    offset = pattern = plane(plan.dark)
    scale, factor = "", 0.0
    if dark is None:
        offset = plane(plan.bias)
        if offset is None and plan.overscan:
            offset = np.zeros(examples[0].shape, np.float32)
        if offset is not None and scaled is not None:
            pattern = plane(plan.scaled_dark)
            assert pattern is not None
            short_s = bias.exposure_s if bias else 0.0
            thermal = pattern - offset
            factor, scale = _dark_factor(examples, offset, short_s, scaled, thermal)
            offset = offset + np.float32(factor) * thermal
            del thermal
    divisor = plane(plan.flat)
    defects = find_defects(pattern, divisor, examples[0].shape, plan.defects.threshold)
    if not plan.ready:
        defects |= pixels_marked(plan.defects, examples[0])
    sky = None if pattern is not None or plan.ready else sky_of(examples, folder)
    if sky is not None:
        defects[np.abs(deviations_on_sky(sky)) > sky_threshold(plan.defects)] = DEFECT
    left = _left_over(offset, dark, defects, exposure_s)
    del pattern
    if plan.lean is not None:
        divisor = plan.lean.straightened(divisor, examples[0].shape)
    save_chain(make_chain(offset, divisor, defects), folder)
    noise = replace(
        _offset_noise(dark, bias, scaled, factor),
        left_adu=left, flat_adu=_light_of(flat),
    )  # fmt: skip
    level = bias.level_adu if bias else 0.0 if plan.overscan else None
    rate = _dark_rate(dark, level)
    if scaled is not None and level is not None:
        rate = factor * max(0.0, scaled.level_adu - level) / exposure_s
    seen_on = 0 if sky is None else len(examples)
    return Planes(scale, rate, noise, int(defects.sum()), _overscan_words(examples), seen_on)


def sky_of(frames: Sequence[Frame], scratch: Path) -> Plane | None:
    """The median of exposures, on which what stays on its pixels is seen; None of few, and of
    colours, whose stars are no larger than a defect on their own pixels.
    """
    if not enough_exposures(len(frames)) or frames[0].channel:
        return None
    scratch.mkdir(parents=True, exist_ok=True)
    try:
        return combine([frame.source for frame in frames], scratch, method=MEDIAN).plane
    except (UnreadableFileError, OSError):
        return None  # what is wrong with them is said where they are measured


def pixels_marked(rule: DefectRule, frame: Frame) -> Flags:
    """What the observer marked, among the frame's own pixels."""
    light = frame.source.light
    first = (light.x, light.y) if light else (0, 0) if frame.channel else frame.source.first
    return own_pixels(rule.mask(frame.sensor_shape, first), frame)


def own_pixels(plane: NDArray[S], frame: Frame) -> NDArray[S]:
    """The pixels of a plane that are of the frame's colour; all where it has none."""
    if not frame.channel:
        return plane
    light = frame.source.light
    x, y = frame.source.first
    x, y = (x - light.x, y - light.y) if light else (x, y)
    height, width = frame.shape
    step = frame.source.step
    return np.ascontiguousarray(plane[y::step, x::step][:height, :width])


def _own_plane(master: Master, frame: Frame) -> Plane:
    """A master's pixels of the frame's colour; a flat then relative to these alone."""
    plane = own_pixels(master.plane, frame)
    if frame.channel and master.facts.kind == "flat":
        plane /= np.float32(np.nanmedian(plane))
    return plane


def _overscan_words(examples: Sequence[Frame]) -> str:
    """What the overscan of some exposures shows, in words; nothing where they have none."""
    found = []
    for frame in examples:
        try:
            found.append(overscan_of(frame.source))
        except (UnreadableFileError, OSError):
            continue  # what is wrong with it is said where it is measured
    known = [one for one in found if one is not None]
    if not known:
        return ""
    level, drift, banding, noise = (
        float(np.median([getattr(one, name) for one in known]))
        for name in ("level_adu", "drift_adu", "banding_adu", "noise_adu")
    )
    rows = f"rows jitter by {banding:.2f} ADU, taken off" if banding else "no jitter of its rows"
    return (
        f"overscan off, row by row: level {level:.1f} ADU, {drift:+.1f} ADU from the first row to "
        f"the last, {rows}; scatter of single pixels {noise:.2f} ADU"
    ).replace("-", "−")


def _dark_factor(
    examples: Sequence[Frame], base: Plane, short_s: float, dark: MasterFacts, thermal: Plane
) -> tuple[float, str]:
    """The scale of ``thermal``, a dark less ``base``, from the exposures where its pattern shows,
    else by exposure time. A short dark that stands in for the bias, of ``short_s``, holds some of
    the pattern itself.
    """
    by_time = (examples[0].exposure_s - short_s) / (dark.exposure_s - short_s)
    fits = []
    for frame in examples[:_SCALE_FRAMES]:
        try:
            fit = fit_dark_scale(read_pixels(frame.source) - base, thermal)
        except (UnreadableFileError, OSError):
            continue
        if fit:
            fits.append(fit)
    if fits:
        factor = float(np.median([fit.factor for fit in fits]))
        uncertainty = float(np.median([fit.uncertainty for fit in fits]))
        if factor > 0 and uncertainty < _MOST_SCALE_UNCERTAINTY * factor:
            return factor, f"{factor:.3f} ± {uncertainty:.3f} (found from its hot pixels)"
    return by_time, f"{by_time:.3f} (by exposure time; too little pattern to measure it)"


def _dark_rate(dark: MasterFacts | None, level_adu: float | None) -> float:
    if dark is None or level_adu is None or dark.exposure_s <= 0:
        return 0.0
    return max(0.0, (dark.level_adu - level_adu) / dark.exposure_s)


def _offset_noise(
    dark: MasterFacts | None, bias: MasterFacts | None, scaled: MasterFacts | None, factor: float
) -> MastersNoise:
    """Variances of what is taken off: (1 − k) of the bias and k of the dark."""
    if dark is not None:
        return MastersNoise(0.0, _variance_share(dark), dark.exposure_s)
    bias_share = _variance_share(bias) if bias else 0.0
    if scaled is None or (bias is None and not factor):
        return MastersNoise(bias_share)
    return MastersNoise(
        (1.0 - factor) ** 2 * bias_share, factor**2 * _variance_share(scaled),
        scaled.exposure_s,
    )  # fmt: skip


def _variance_share(master: MasterFacts) -> float:
    """Variance of a master over that of one of its frames: the mean's or, of few, the median's."""
    count = max(master.count, 1)
    few = master.combined == CLIPPED and count < LEAST_TO_CLIP
    return (median_over_mean(count) if few or master.combined == MEDIAN else 1.0) / count


def _left_over(
    plane: Plane | None, dark: MasterFacts | None, defects: Flags, exposure_s: float
) -> float:
    """Scatter in ADU of what a dark of another length leaves of its pattern, repaired pixels
    apart.
    """
    if plane is None or dark is None or dark.exposure_s <= 0:
        return 0.0
    wrong = abs(exposure_s / dark.exposure_s - 1.0)
    if wrong <= USUAL_RULES.exposure_tolerance:
        return 0.0
    pattern = (plane - local_median(plane))[defects == 0]
    return wrong * float(np.std(np.clip(pattern, *np.percentile(pattern, [0.01, 99.99]))))


def _light_of(flat: MasterFacts | None) -> float:
    if flat is None:
        return 0.0
    return max(flat.level_adu, 1.0) / _variance_share(flat)
