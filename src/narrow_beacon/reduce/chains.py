"""Chains: for every kind of exposure the masters that correct it, why, and planes of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
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
    defects_said,
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
from narrow_beacon.core.kits import CLIPPED, MEDIAN, NO_WORDS, USUAL_RULES, Kits, Rules
from narrow_beacon.core.measure.noise import MastersNoise
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.chain_plan import ChainPlan, missing_of, plan_chain, rules_of
from narrow_beacon.reduce.codec import dump, load
from narrow_beacon.reduce.context import SECOND, save_chain
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.names import chain_name, fingerprint
from narrow_beacon.reduce.workers import Pool

S = TypeVar("S", np.float32, np.uint8)
_SCALE_FRAMES = 5
_MOST_SCALE_UNCERTAINTY = 0.1
_CHAIN_EXAMPLES = 5


@dataclass(frozen=True)
class Station:
    """One step of a chain: ``kind`` is "overscan", "offset", "flat", "repair" or "combined";
    ``remarks`` say what does not fit about its master.
    """

    kind: str
    words: str
    master: str = ""
    remarks: tuple[str, ...] = ()
    key: str = ""
    """The master's key."""
    file: str = ""
    """The name of the file that holds it; others may have the same key."""


@dataclass(frozen=True)
class ChainReport:
    """A chain as built: where its planes are, what it does in words, what the noise model needs."""

    name: str
    folder: str
    stations: tuple[Station, ...]
    remarks: tuple[str, ...]
    masters: tuple[str, ...]
    dark_adu_per_s: float
    defects: int
    left_out: tuple[str, ...] = ()
    """Steps that the observer does without."""
    problem: str = ""
    """Why it could not be made; its exposures can't be corrected then."""
    noise: MastersNoise = field(default_factory=MastersNoise)
    lean: str = ""
    """What its flat is straightened by."""


class MadeOf:
    """What each of some masters was made of."""

    def __init__(self, masters: Sequence[MasterFile]) -> None:
        self._masters = masters
        self._by_key: dict[str, list[object]] = defaultdict(list)
        for master in masters:
            self._by_key[master.facts.key].append(_content(master.facts))

    def inputs_of(self, plan: ChainPlan) -> tuple[object, ...]:
        """Everything that goes into a chain's planes: by step, the master's frames and, below them,
        the frames of the masters that it went through itself.
        """
        return tuple(
            (step, _content(facts), [self._by_key.get(key, []) for key in facts.made_with])
            for step, index in plan.steps
            for facts in [self._masters[index].facts]
        )


def _content(facts: MasterFacts) -> tuple[object, ...]:
    """What a master was made of; a file's name may change with the folders beside it."""
    way = Rules(combine=facts.combined, clip_sigma=facts.clip_sigma).combination
    return facts.kind, facts.exposure_s, [sha256 for _, sha256 in facts.inputs], *way


@dataclass(frozen=True)
class BuiltChains:
    """Chains as built, and the name of what each was made of, both by the chain's name."""

    reports: dict[str, ChainReport]
    prints: dict[str, str]

    @property
    def remarks(self) -> list[Remark]:
        """What does not fit about the masters of each chain."""
        return [remark for report in self.reports.values() for remark in chain_remarks(report)]


def build_chains(
    exposures: Sequence[Frame],
    masters: Sequence[MasterFile],
    folder: Path,
    picks: Mapping[str, Mapping[str, str]],
    workers: Pool,
    done: Callable[[ChainReport], None] = lambda _: None,
    kits: Kits = NO_WORDS,
) -> BuiltChains:
    """The chain of every kind of exposure; its planes lie below ``folder`` under the name of what
    they were made of, and stay where they are there already. ``picks`` are the observer's by the
    chain's name, as ``plan_chain`` takes them.
    """
    by_name: dict[str, list[Frame]] = defaultdict(list)
    for frame in exposures:
        by_name[chain_name(frame)].append(frame)
    facts, made_of = [master.facts for master in masters], MadeOf(masters)
    prints, calls = {}, []
    for name, frames in by_name.items():
        reach = _CHAIN_EXAMPLES // 2
        middle = len(frames) // 2
        examples = frames[max(0, middle - reach) : middle + reach + 1]
        first = frames[0]
        plan = plan_chain(name, first, facts, picks.get(name), rules_of(first, kits))
        defects = defects_said(kits.word(*first.known_as))
        plan = replace(plan, defects=defects)
        # Exposures go into the planes only where a dark's scale or defects are found from them.
        looked_at = plan.scaled_dark.index is not None or plan.dark.index is None
        looked_at = looked_at and not plan.ready
        seen = [f.sha256 + f.part for f in examples] if looked_at else []
        sites = (first.source.first, first.source.step) if first.channel else first.shape
        lean = [plan.lean.text] if plan.lean else []
        prints[name] = fingerprint("planes", made_of.inputs_of(plan), sites, seen, defects, *lean)
        calls.append((*_with_its_own(plan, masters), examples, folder / prints[name][:16]))
    # What is there needs no task, nor the masters of all other nights to be handed to it.
    there = {call[0].name: build_chain(*call) for call in calls if _note_in(call[-1]).exists()}
    for report in there.values():
        done(report)
    todo = [call for call in calls if call[0].name not in there]
    built = {report.name: report for report in workers.map(build_chain, todo, done)}
    return BuiltChains({name: there.get(name) or built[name] for name in by_name}, prints)


def _with_its_own(
    plan: ChainPlan, masters: Sequence[MasterFile]
) -> tuple[ChainPlan, list[MasterFile]]:
    """A plan of the masters that it takes alone, and these: what a task names is what it reads."""
    taken = sorted({index for _, index in plan.steps})
    place = {index: at for at, index in enumerate(taken)}

    def own(choice: Choice) -> Choice:
        return choice if choice.index is None else replace(choice, index=place[choice.index])

    plan = replace(
        plan, bias=own(plan.bias), dark=own(plan.dark), scaled_dark=own(plan.scaled_dark),
        flat=own(plan.flat),
    )  # fmt: skip
    return plan, [masters[index] for index in taken]


def build_chain(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> ChainReport:
    """A chain with its planes. ``examples`` are exposures from which a dark's scale is found.

    Never raises: where the planes cannot be made, ``problem`` says why.
    """
    try:
        made = _planes(plan, masters, examples, folder)
    except Exception as error:
        words = words_of(error, "preparing the correction of", plan.name)
        return ChainReport(
            plan.name, str(folder), (), (words,), (), 0.0, 0, plan.left_out, problem=words
        )
    steps = _stations(plan, masters, made)
    if plan.ready:
        steps.append(
            Station("combined", f"combined from {examples[0].combined}, corrected already")
        )
    words = f"{made.defects} defects repaired from their neighbours"
    if made.seen_on:
        words += f": found on {made.seen_on} exposures, for there is no dark"
    stations = (*steps, Station("repair", words))
    remarks = [*missing_of(plan), *(words for station in stations for words in station.remarks)]
    return ChainReport(
        name=plan.name,
        folder=str(folder),
        stations=stations,
        remarks=tuple(dict.fromkeys(remarks)),
        masters=tuple(station.key for station in stations if station.key),
        dark_adu_per_s=made.dark_adu_per_s,
        noise=made.noise,
        defects=made.defects,
        left_out=plan.left_out,
        lean=plan.lean.text if plan.lean else "",
    )


@dataclass(frozen=True)
class _Planes:
    """What was found while a chain's planes were made."""

    scale: str
    dark_adu_per_s: float
    noise: MastersNoise
    defects: int
    overscan: str = ""
    seen_on: int = 0
    """Exposures on which the defects were found, where no dark shows them."""


def _note_in(folder: Path) -> Path:
    """The last of a chain's files: with it the planes are whole."""
    return folder / "made.json"


def _planes(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> _Planes:
    note = _note_in(folder)
    if note.exists():
        return load(_Planes, note.read_text())
    made = _planes_of(plan, masters, examples, folder)
    if examples[0].second is not None:
        others = [replace(f, source=f.second) for f in examples if f.second is not None]
        other = _planes_of(plan, masters, others, folder / SECOND)
        made = replace(made, defects=made.defects + other.defects)
    scratch = note.with_suffix(".new")
    scratch.write_text(dump(made))
    scratch.replace(note)
    return made


def _planes_of(
    plan: ChainPlan, masters: Sequence[MasterFile], examples: Sequence[Frame], folder: Path
) -> _Planes:
    def read(choice: Choice) -> Master | None:
        if choice.index is None:
            return None
        return _own_master(read_master(masters[choice.index].path), examples[0])

    bias, dark, scaled, flat = (
        read(c) for c in (plan.bias, plan.dark, plan.scaled_dark, plan.flat)
    )
    exposure_s = examples[0].exposure_s
    base = bias.plane if bias else None
    if base is None and plan.overscan:
        base = np.zeros(examples[0].shape, np.float32)
    offset, scale, factor = None, "", 0.0
    if dark is not None:
        offset = dark.plane
    elif base is not None:
        offset = base
        if scaled is not None:
            short_s = bias.facts.exposure_s if bias else 0.0
            factor, scale = _dark_factor(examples, base, short_s, scaled)
            offset = base + np.float32(factor) * (scaled.plane - base)
    pattern = dark or (scaled if base is not None else None)
    defects = find_defects(
        pattern.plane if pattern else None, flat.plane if flat else None, examples[0].shape,
        plan.defects.threshold,
    )  # fmt: skip
    if not plan.ready:
        defects |= pixels_marked(plan.defects, examples[0])
    sky = None if pattern or plan.ready else sky_of(examples, folder)
    if sky is not None:
        defects[np.abs(deviations_on_sky(sky)) > sky_threshold(plan.defects)] = DEFECT
    divisor = flat.plane if flat else None
    if plan.lean is not None:
        divisor = plan.lean.straightened(divisor, examples[0].shape)
    save_chain(make_chain(offset, divisor, defects), folder)
    noise = replace(
        _offset_noise(dark, bias, scaled, factor),
        left_adu=_left_over(dark, defects, exposure_s), flat_adu=_light_of(flat),
    )  # fmt: skip
    level = bias.facts.level_adu if bias else 0.0 if plan.overscan else None
    rate = _dark_rate(dark, level)
    if scaled is not None and level is not None:
        rate = factor * max(0.0, scaled.facts.level_adu - level) / exposure_s
    seen_on = 0 if sky is None else len(examples)
    return _Planes(scale, rate, noise, int(defects.sum()), _overscan_words(examples), seen_on)


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


def _own_master(master: Master, frame: Frame) -> Master:
    """A master's pixels of the frame's colour; a flat then relative to these alone."""
    if not frame.channel:
        return master
    plane = own_pixels(master.plane, frame)
    if master.facts.kind == "flat":
        plane /= np.float32(np.nanmedian(plane))
    return replace(master, plane=plane)


def _stations(plan: ChainPlan, masters: Sequence[MasterFile], made: _Planes) -> list[Station]:
    def stop(kind: str, words: str, choice: Choice) -> Station:
        assert choice.index is not None
        master = masters[choice.index]
        facts = master.facts
        remarks = tuple(choice.remarks)
        return Station(kind, words, facts.label, remarks, facts.key, master.path.name)

    stops = [Station("overscan", made.overscan)] if made.overscan else []
    if plan.dark.index is not None:
        stops.append(stop("offset", f"dark off: {plan.dark.reason}", plan.dark))
    else:
        if plan.bias.index is not None:
            stops.append(stop("offset", f"bias off: {plan.bias.reason}", plan.bias))
        if plan.scaled_dark.index is not None and (plan.bias.index is not None or plan.overscan):
            words = f"dark off, scaled by {made.scale}: {plan.scaled_dark.reason}"
            stops.append(stop("offset", words, plan.scaled_dark))
    lean = f"straightened by {plan.lean.words}" if plan.lean else ""
    if plan.flat.index is not None:
        words = ", ".join(part for part in (plan.flat.reason, lean) if part)
        stops.append(stop("flat", f"divided by flat: {words}", plan.flat))
    elif lean:
        stops.append(Station("flat", lean))
    return stops


def chain_remarks(report: ChainReport) -> list[Remark]:
    """What does not fit about a chain's masters, what it may cost, what can be done."""
    remarks = []
    for words in report.remarks:
        matters, remedy = next(
            ((m, r) for start, m, r in _COSTS if start in words),
            ("", "pick another master in Correct"),
        )
        remarks.append(Remark("correct", words, report.name, matters, remedy))
    return remarks


_COSTS = (
    (
        "not flat-fielded", "tens of mmag where the star moves over dust or towards a corner",
        "take flats in this filter, or name a folder of masters",
    ),
    (
        "neither dark nor bias", "the sky's level holds the sensor's own, and hot pixels stay",
        "take darks of the exposure's length, or name a folder of masters",
    ),
    (
        "taken off as it is", "hot pixels stay in part; the uncertainties of faint stars hold it",
        "take bias frames, or darks of the exposures' length",
    ),
    (
        "no dark within", "little where a dark could be scaled, else hot pixels stay",
        "take darks of this length and temperature",
    ),
    (
        "no dark with the exposure", "hot pixels stay, the star's light hardly changes",
        "take darks of this length and temperature",
    ),
    (
        "only ", "its own noise: that of one exposure over the root of its frames",
        "take 10 or more",
    ),
    (
        "dust may have moved", "a few mmag where it did, up to tens on a fresh grain",
        "take flats for every night",
    ),
    ("has no date", "a few mmag if dust moved since", "give its date in Intake"),
    ("days old", "hot pixels may have changed", "take new ones every few weeks"),
)  # fmt: skip


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
    examples: Sequence[Frame], base: Plane, short_s: float, dark: Master
) -> tuple[float, str]:
    """The scale of a dark less ``base``, from the exposures where its pattern shows, else by
    exposure time. A short dark that stands in for the bias, of ``short_s``, holds some of the
    pattern itself.
    """
    by_time = (examples[0].exposure_s - short_s) / (dark.facts.exposure_s - short_s)
    thermal = dark.plane - base
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


def _dark_rate(dark: Master | None, level_adu: float | None) -> float:
    if dark is None or level_adu is None or dark.facts.exposure_s <= 0:
        return 0.0
    return max(0.0, (dark.facts.level_adu - level_adu) / dark.facts.exposure_s)


def _offset_noise(
    dark: Master | None, bias: Master | None, scaled: Master | None, factor: float
) -> MastersNoise:
    """Variances of what is taken off: (1 − k) of the bias and k of the dark."""
    if dark is not None:
        return MastersNoise(0.0, _variance_share(dark), dark.facts.exposure_s)
    bias_share = _variance_share(bias) if bias else 0.0
    if scaled is None or (bias is None and not factor):
        return MastersNoise(bias_share)
    return MastersNoise(
        (1.0 - factor) ** 2 * bias_share, factor**2 * _variance_share(scaled),
        scaled.facts.exposure_s,
    )  # fmt: skip


def _variance_share(master: Master) -> float:
    """Variance of a master over that of one of its frames: the mean's or, of few, the median's."""
    count = max(master.facts.count, 1)
    few = master.facts.combined == CLIPPED and count < LEAST_TO_CLIP
    return (median_over_mean(count) if few or master.facts.combined == MEDIAN else 1.0) / count


def _left_over(dark: Master | None, defects: Flags, exposure_s: float) -> float:
    """Scatter in ADU of what a dark of another length leaves of its pattern, repaired pixels
    apart.
    """
    if dark is None or dark.facts.exposure_s <= 0:
        return 0.0
    wrong = abs(exposure_s / dark.facts.exposure_s - 1.0)
    if wrong <= USUAL_RULES.exposure_tolerance:
        return 0.0
    pattern = (dark.plane - local_median(dark.plane))[defects == 0]
    return wrong * float(np.std(np.clip(pattern, *np.percentile(pattern, [0.01, 99.99]))))


def _light_of(flat: Master | None) -> float:
    if flat is None:
        return 0.0
    return max(flat.facts.level_adu, 1.0) / _variance_share(flat)
