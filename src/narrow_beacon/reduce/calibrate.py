"""Build the masters of a night and, for every kind of exposure, the chain that corrects it."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from narrow_beacon.core.correct.apply import make_chain
from narrow_beacon.core.correct.dark_scale import fit_dark_scale
from narrow_beacon.core.correct.defects import find_defects
from narrow_beacon.core.correct.flat_check import compare_flats
from narrow_beacon.core.correct.masters import (
    Master,
    MasterFacts,
    build_master,
    group_calibration,
    read_master,
    write_master,
)
from narrow_beacon.core.correct.match import (
    Choice,
    choose_bias,
    choose_dark,
    choose_dark_to_scale,
    choose_flat,
    fits_unscaled,
    picked_master,
)
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.sort import Frame
from narrow_beacon.reduce.context import save_chain
from narrow_beacon.reduce.workers import Pool

STEPS = {"bias": ("bias", "flat dark", "dark"), "dark": ("dark", "flat dark"), "flat": ("flat",)}
"""The steps whose master can be picked, and the kinds of masters that they take."""
LEFT_OUT = "none"
"""What is picked for a step that the observer does without."""

_BIAS_LIKE_S = 5.0
_SCALE_FRAMES = 5
_MOST_SCALE_UNCERTAINTY = 0.1


@dataclass(frozen=True)
class MasterFile:
    """A master on disk."""

    facts: MasterFacts
    path: Path


@dataclass(frozen=True)
class ChainPlan:
    """Which masters correct a kind of exposure, and why."""

    name: str
    bias: Choice
    dark: Choice
    scaled_dark: Choice
    flat: Choice
    options: tuple[Option, ...] = ()
    left_out: tuple[str, ...] = ()
    """Steps that the observer does without."""
    lost: tuple[str, ...] = ()
    """Words on picked masters that are no longer there."""


@dataclass(frozen=True)
class Option:
    """A master that a step of a chain could use, what it is, and what does not fit about it.

    ``step`` is one of STEPS.
    """

    step: str
    key: str
    label: str
    words: str
    remarks: tuple[str, ...]
    picked: bool


@dataclass(frozen=True)
class Station:
    """One step of a chain: ``kind`` is "offset", "flat" or "repair"; ``remarks`` say what does
    not fit about its master.
    """

    kind: str
    words: str
    master: str = ""
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True)
class ChainReport:
    """A chain as built: where its planes are, what it does in words, what the noise model needs."""

    name: str
    folder: str
    stations: tuple[Station, ...]
    remarks: tuple[str, ...]
    masters: tuple[str, ...]
    dark_adu_per_s: float
    dark_frames: int | None
    defects: int
    options: tuple[Option, ...] = ()
    left_out: tuple[str, ...] = ()
    """Steps that the observer does without."""


def chain_name(frame: Frame) -> str:
    """Exposures with the same name are corrected by the same planes."""
    parts = [frame.night, frame.filter or "", f"{frame.exposure_s:g} s"]
    if frame.temperature_c is not None:
        parts.append(f"{frame.temperature_c:.0f} °C".replace("-", "−"))
    if frame.gain_setting is not None:
        parts.append(f"gain {frame.gain_setting:g}")
    if frame.offset_setting is not None:
        parts.append(f"offset {frame.offset_setting:g}")
    return ", ".join([*parts, frame.readout_mode] if frame.readout_mode else parts)


def build_masters(
    frames: Sequence[Frame],
    folder: Path,
    scratch: Path,
    workers: Pool,
    done: Callable[[MasterFile], None],
    *,
    reuse: bool = False,
) -> list[MasterFile]:
    """Combine all calibration frames into masters under ``folder``; flats after the rest.

    With ``reuse`` a master that is there already and was made of the same frames stays.
    """
    groups = group_calibration(frames)
    paths = _file_names(groups, folder)
    first = [i for i, group in enumerate(groups) if group[0].kind != "flat"]
    masters = workers.map(
        _build, [(groups[i], paths[i], scratch, None, reuse) for i in first], done
    )
    facts = [master.facts for master in masters]
    calls = []
    for i, group in enumerate(groups):
        if group[0].kind != "flat":
            continue
        choice = choose_dark(group[0], facts)
        if choice.index is None:
            choice = choose_bias(group[0], facts)
        signal = None if choice.index is None else masters[choice.index].path
        calls.append((group, paths[i], scratch, signal, reuse))
    return masters + workers.map(_build, calls, done)


def _file_names(groups: Sequence[Sequence[Frame]], folder: Path) -> list[Path]:
    names: list[str] = []
    for group in groups:
        frame = group[0]
        words = [frame.kind, frame.filter or ""]
        if frame.kind in ("dark", "flat dark"):
            words.append(f"{frame.exposure_s:g}s")
        if frame.temperature_c is not None:
            words.append(f"{frame.temperature_c:.0f}C".replace("-", "minus"))
        name = "-".join(word for word in [*words, frame.night] if word).replace(" ", "-")
        name = re.sub(r"[^A-Za-z0-9.-]", "_", name)
        names.append(name if name not in names else f"{name}-{len(names)}")
    return [folder / f"{name}.fits" for name in names]


def _build(
    group: Sequence[Frame], path: Path, scratch: Path, signal: Path | None, reuse: bool
) -> MasterFile:
    if reuse and path.exists():
        facts = read_master(path).facts
        same = [sha256 for _, sha256 in facts.inputs] == [frame.sha256 for frame in group]
        older = signal is None or signal.stat().st_mtime_ns <= path.stat().st_mtime_ns
        if same and older and bool(facts.made_with) == bool(signal):
            return MasterFile(facts, path)
    master = build_master(group, scratch, read_master(signal) if signal else None)
    write_master(master, path)
    return MasterFile(master.facts, path)


def library_masters(folder: Path | None) -> tuple[list[MasterFile], list[str]]:
    """Masters of earlier nights, and words on files that are none."""
    found, problems = [], []
    for path in sorted(folder.rglob("*.fits")) if folder else []:
        try:
            found.append(MasterFile(read_master(path).facts, path))
        except UnreadableFileError as error:
            problems.append(f"library: {error}")
    return found, problems


def plan_chain(
    name: str,
    frame: Frame,
    masters: Sequence[MasterFacts],
    picks: Mapping[str, str] | None = None,
) -> ChainPlan:
    """Choose the masters for a kind of exposure.

    ``picks`` are the observer's, by step: the key of a master, or LEFT_OUT.
    """
    picks = picks or {}
    bias = _picked("bias", frame, masters, picks) or choose_bias(frame, masters)
    if bias.index is None and picks.get("bias") != LEFT_OUT:
        bias = _stand_in_bias(frame, masters, bias)
    dark, scaled = _choose_darks(frame, masters, picks, bias.index is not None)
    flat = _picked("flat", frame, masters, picks) or choose_flat(frame, masters)
    options = _options(frame, masters, picks)
    left_out = tuple(step for step in STEPS if picks.get(step) == LEFT_OUT)
    there = {option.step for option in options if option.picked}
    lost = tuple(
        f"the picked {step} is no longer there, so another was chosen: {key}"
        for step, key in picks.items()
        if step not in (*left_out, *there)
    )
    return ChainPlan(name, bias, dark, scaled, flat, options, left_out, lost)


def _choose_darks(
    frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str], has_bias: bool
) -> tuple[Choice, Choice]:
    """A dark that is taken off as it is, or else one that is scaled to the exposure."""
    picked = _picked("dark", frame, masters, picks)
    if picked is None:
        dark = choose_dark(frame, masters)
        if dark.index is not None:
            return dark, Choice(None, "not needed")
        scaled = choose_dark_to_scale(frame, masters)
    elif picked.index is None:
        return picked, picked
    elif fits_unscaled(frame, masters[picked.index]):
        return picked, Choice(None, "not needed")
    else:
        dark = Choice(None, f"{masters[picked.index].label} is of another length or temperature")
        scaled = picked
    if not has_bias and scaled.index is not None:
        scaled = Choice(None, "a dark cannot be scaled without a bias to take off first")
    return dark, scaled


def _picked(
    step: str, frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str]
) -> Choice | None:
    """The observer's choice; None where there is none, or it is no longer there."""
    if picks.get(step) == LEFT_OUT:
        return Choice(None, f"left out by the observer: {step}")
    found = [i for i in _usable(step, frame, masters) if masters[i].key == picks.get(step)]
    return picked_master(frame, masters, found[0]) if found else None


def _usable(step: str, frame: Frame, masters: Sequence[MasterFacts]) -> list[int]:
    return [
        i
        for i, m in enumerate(masters)
        if m.kind in STEPS[step]
        and m.shape == frame.shape
        and (step != "bias" or m.kind == "bias" or _bias_like(frame, m))
    ]


def _options(
    frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str]
) -> tuple[Option, ...]:
    options = []
    for step in STEPS:
        for i in _usable(step, frame, masters):
            choice = picked_master(frame, masters, i)
            key, label = masters[i].key, masters[i].label
            why = choice.reason.partition(": ")[2]
            options.append(Option(step, key, label, why, choice.remarks, picks.get(step) == key))
    return tuple(options)


def _stand_in_bias(frame: Frame, masters: Sequence[MasterFacts], nothing: Choice) -> Choice:
    short = [
        i
        for i, m in enumerate(masters)
        if m.kind in ("flat dark", "dark") and _bias_like(frame, m) and m.shape == frame.shape
    ]
    if not short:
        return nothing
    best = min(short, key=lambda i: masters[i].exposure_s)
    return Choice(best, f"{masters[best].label} stands in for a bias")


def inputs_of(plan: ChainPlan, masters: Sequence[MasterFile]) -> tuple[object, ...]:
    """Everything that goes into a chain's planes: by step, the master's frames and, below them,
    the frames of the masters that it went through itself.
    """
    frames: dict[str, list[object]] = defaultdict(list)
    for master in masters:
        frames[master.facts.label].append(master.facts.inputs)
    return tuple(
        (step, facts.inputs, [frames[label] for label in facts.made_with])
        for step, choice in vars(plan).items()
        if isinstance(choice, Choice) and choice.index is not None
        for facts in [masters[choice.index].facts]
    )


def _bias_like(frame: Frame, master: MasterFacts) -> bool:
    return master.exposure_s <= min(_BIAS_LIKE_S, 0.1 * frame.exposure_s)


def build_chain(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> ChainReport:
    """Make the planes of a chain. ``examples`` are exposures from which a dark's scale is found."""

    def load(choice: Choice) -> Master | None:
        return None if choice.index is None else read_master(masters[choice.index].path)

    bias, dark, scaled, flat = (
        load(c) for c in (plan.bias, plan.dark, plan.scaled_dark, plan.flat)
    )
    frame = examples[0]
    stations: list[Station] = []
    missing = list(plan.lost)
    offset = None
    dark_frames = None
    if dark is not None:
        offset = dark.plane
        dark_frames = dark.facts.count
        stations.append(_station("offset", f"dark off: {plan.dark.reason}", dark, plan.dark))
    elif bias is not None:
        offset = bias.plane
        stations.append(_station("offset", f"bias off: {plan.bias.reason}", bias, plan.bias))
        missing.append(plan.dark.reason)
        if scaled is not None:
            factor, how = _dark_factor(examples, bias, scaled)
            offset = bias.plane + np.float32(factor) * (scaled.plane - bias.plane)
            dark_frames = scaled.facts.count
            words = f"dark off, scaled by {how}: {plan.scaled_dark.reason}"
            stations.append(_station("offset", words, scaled, plan.scaled_dark))
        else:
            missing.append(plan.scaled_dark.reason)
    else:
        missing.append(f"neither dark nor bias: {plan.dark.reason}; {plan.scaled_dark.reason}")
    if flat is not None:
        stations.append(_station("flat", f"divided by flat: {plan.flat.reason}", flat, plan.flat))
    else:
        missing.append(f"not flat-fielded: {plan.flat.reason}")
    pattern = dark or scaled
    defects = find_defects(
        pattern.plane if pattern else None, flat.plane if flat else None, frame.shape
    )
    words = f"{int(defects.sum())} defects repaired from their neighbours"
    stations.append(Station("repair", words))
    remarks = [*missing, *(words for station in stations for words in station.remarks)]
    save_chain(make_chain(offset, flat.plane if flat else None, defects), folder)
    return ChainReport(
        name=plan.name,
        folder=str(folder),
        stations=tuple(stations),
        remarks=tuple(dict.fromkeys(remarks)),
        masters=tuple(station.master for station in stations if station.master),
        dark_adu_per_s=_dark_rate(pattern, bias),
        dark_frames=dark_frames,
        defects=int(defects.sum()),
        options=plan.options,
        left_out=plan.left_out,
    )


def _station(kind: str, words: str, master: Master, choice: Choice) -> Station:
    return Station(kind, words, master.facts.label, tuple(choice.remarks))


def _dark_factor(examples: Sequence[Frame], bias: Master, dark: Master) -> tuple[float, str]:
    """The scale of a dark: from the exposures where its pattern shows, else by exposure time."""
    by_time = examples[0].exposure_s / dark.facts.exposure_s
    thermal = dark.plane - bias.plane
    fits = []
    for frame in examples[:_SCALE_FRAMES]:
        try:
            fit = fit_dark_scale(read_pixels(frame.source) - bias.plane, thermal)
        except UnreadableFileError:
            continue
        if fit:
            fits.append(fit)
    if fits:
        factor = float(np.median([fit.factor for fit in fits]))
        uncertainty = float(np.median([fit.uncertainty for fit in fits]))
        if uncertainty < _MOST_SCALE_UNCERTAINTY * factor and 0.5 < factor / by_time < 2.0:
            return factor, f"{factor:.3f} ± {uncertainty:.3f} (found from its hot pixels)"
    return by_time, f"{by_time:.3f} (by exposure time; too little pattern to measure it)"


def _dark_rate(dark: Master | None, bias: Master | None) -> float:
    if dark is None or bias is None or dark.facts.exposure_s <= 0:
        return 0.0
    return max(0.0, (dark.facts.level_adu - bias.facts.level_adu) / dark.facts.exposure_s)


def flat_remarks(masters: Sequence[MasterFile]) -> list[str]:
    """Words on flats of one filter that differ between nights: dust that moved."""
    remarks = []
    flats = [master for master in masters if master.facts.kind == "flat"]
    for i, later in enumerate(flats):
        for earlier in flats[:i]:
            same = (earlier.facts.filter, earlier.facts.shape) == (
                later.facts.filter,
                later.facts.shape,
            )
            if not same or earlier.facts.night == later.facts.night:
                continue
            changes = compare_flats(read_master(later.path).plane, read_master(earlier.path).plane)
            if changes:
                places = ", ".join(
                    f"x {c.x_px:.0f} y {c.y_px:.0f} ({100 * c.change:+.1f}%)".replace("-", "−")
                    for c in changes[:4]
                )
                count = "1 place differs" if len(changes) == 1 else f"{len(changes)} places differ"
                remarks.append(
                    f"dust moved between {earlier.facts.label} and {later.facts.label}: "
                    f"{count}, {places}; each night keeps its own flat"
                )
    return remarks
