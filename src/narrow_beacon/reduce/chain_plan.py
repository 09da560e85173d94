"""Which masters correct a kind of exposure, why, and what it lacks: before anything is built."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from narrow_beacon.core.correct.defects import USUAL_DEFECTS, DefectRule
from narrow_beacon.core.correct.fit import GRADES, days_apart, fit_of, grade_of, what_differs
from narrow_beacon.core.correct.lean import LEAN, Lean
from narrow_beacon.core.correct.masters import MasterFacts, group_calibration
from narrow_beacon.core.correct.match import (
    Choice,
    can_be_taken,
    choose_bias,
    choose_dark,
    choose_dark_to_scale,
    choose_flat,
    choose_nearest_dark,
    fits_settings,
    fits_unscaled,
    picked_master,
    same_pixels,
)
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import NO_WORDS, USUAL_RULES, Kits, Rules
from narrow_beacon.reduce.names import chain_name

STEPS = {"bias": ("bias", "flat dark", "dark"), "dark": ("dark", "flat dark"), "flat": ("flat",)}
"""The steps whose master can be picked, and the kinds of masters that they take."""
LEFT_OUT = "none"
"""What is picked for a step that the observer does without."""

MOST_OPTIONS = 24
"""Masters that are told for a step of a chain; nobody looks through those of a hundred nights."""

_BIAS_LIKE_S = 5.0
_ENOUGH, _FEW_FRAMES = 15, 10
_USUAL_FLAT_ADU, _USUAL_APERTURE_PX = 20000.0, 60.0
"""What a flat's noise is reckoned with before it is built: its level, and pixels in an aperture."""
_SHORT_SHARE = 0.5
"""Of the longest dark, up to which a short one tells what does not grow with time."""


@dataclass(frozen=True)
class ChainPlan:
    """Which masters correct a kind of exposure, and why."""

    name: str
    bias: Choice
    dark: Choice
    scaled_dark: Choice
    flat: Choice
    left_out: tuple[str, ...] = ()
    """Steps that the observer does without."""
    lost: tuple[str, ...] = ()
    """Words on picked masters that are no longer there."""
    overscan: bool = False
    """Whether every row's own level is taken off first."""
    defects: DefectRule = USUAL_DEFECTS
    lean: Lean | None = None
    """By which its flat is straightened."""
    ready: bool = False
    """Whether the exposures are corrected already, as combined ones are."""

    @property
    def steps(self) -> tuple[tuple[str, int], ...]:
        """The steps that have a master, with its position in the list of masters."""
        choices = (
            ("bias", self.bias), ("dark", self.dark), ("scaled_dark", self.scaled_dark),
            ("flat", self.flat),
        )  # fmt: skip
        return tuple((step, c.index) for step, c in choices if c.index is not None)


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
    grade: str = ""
    """How well it fits: one of GRADES."""
    fit: tuple[str, ...] = ()
    """In what it was compared, in words."""
    differs: str = ""
    """What does not fit exactly, in words."""


def plan_chain(
    name: str,
    frame: Frame,
    masters: Sequence[MasterFacts],
    picks: Mapping[str, str] | None = None,
    rules: Rules = USUAL_RULES,
) -> ChainPlan:
    """Choose the masters for a kind of exposure by its kit's ``rules``.

    ``picks`` are the observer's, by step: the key of a master, or LEFT_OUT; under LEAN what the
    flat is straightened by.
    """
    if frame.combined:
        none = Choice(None, "corrected already")
        return ChainPlan(name, none, none, none, none, ready=True)
    picks = picks or {}
    bias = _picked("bias", frame, masters, picks, rules) or choose_bias(frame, masters, rules)
    if bias.index is None and frame.overscan:
        bias = Choice(None, f"{bias.reason}; the overscan stands in for it")
    elif bias.index is None and picks.get("bias") != LEFT_OUT:
        bias = _stand_in_bias(frame, masters, bias, rules)
    level_known = bias.index is not None or frame.overscan
    dark, scaled = _choose_darks(frame, masters, picks, level_known, rules)
    flat = _picked("flat", frame, masters, picks, rules) or choose_flat(frame, masters, rules)
    left_out = tuple(step for step in STEPS if picks.get(step) == LEFT_OUT)
    lost = tuple(
        f"the picked {step} is no longer there, so another was chosen: {key}"
        for step, key in picks.items()
        if step != LEAN and _picked(step, frame, masters, picks, rules) is None
    )
    lean = Lean.of(picks[LEAN]) if LEAN in picks else None
    return ChainPlan(name, bias, dark, scaled, flat, left_out, lost, frame.overscan, lean=lean)


def _choose_darks(
    frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str], level_known: bool,
    rules: Rules,
) -> tuple[Choice, Choice]:  # fmt: skip
    """A dark that is taken off as it is, or else one that is scaled to the exposure."""
    picked = _picked("dark", frame, masters, picks, rules)
    if picked is None:
        dark = choose_dark(frame, masters, rules)
        if dark.index is not None:
            return dark, Choice(None, "not needed")
        scaled = choose_dark_to_scale(frame, masters, rules)
    elif picked.index is None:
        return picked, picked
    elif fits_unscaled(frame, masters[picked.index], rules):
        return picked, Choice(None, "not needed")
    else:
        dark = Choice(None, f"{masters[picked.index].label} is of another length or temperature")
        scaled = picked
    if level_known or scaled.index is None:
        return dark, scaled
    # Without a bias there is nothing to scale by: the dark nearest in length does what it can.
    if picked is None:
        scaled = choose_nearest_dark(frame, masters, rules)
    assert scaled.index is not None
    master = masters[scaled.index]
    longer = frame.exposure_s - master.exposure_s
    words = (
        f"{master.label} is taken off as it is, for there is no bias to scale it by; the dark "
        f"current of {abs(longer):g} s {'more' if longer > 0 else 'less'} stays"
    )
    return (
        replace(scaled, reason=f"{master.label}, unscaled", remarks=(*scaled.remarks, words)),
        Choice(None, "a dark cannot be scaled without a bias to take off first"),
    )


def _picked(
    step: str, frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str],
    rules: Rules,
) -> Choice | None:  # fmt: skip
    """The observer's choice; None where there is none, or it is no longer there."""
    if step not in picks:
        return None
    if picks[step] == LEFT_OUT:
        return Choice(None, f"left out by the observer: {step}")
    found = [i for i in _usable(step, frame, masters) if masters[i].key == picks[step]]
    return picked_master(frame, masters, found[0], rules) if found else None


def _usable(step: str, frame: Frame, masters: Sequence[MasterFacts]) -> list[int]:
    return [
        i
        for i, m in enumerate(masters)
        if m.kind in STEPS[step]
        and can_be_taken(frame, m)
        and (step != "bias" or m.kind == "bias" or _bias_like(frame, m))
    ]


@dataclass(frozen=True)
class Options:
    """What the steps of a chain could use, the best fit first: of many masters those that come
    nearest, and what is picked; ``more`` counts the others of each step.
    """

    told: tuple[Option, ...]
    more: Mapping[str, int]


def options_of(
    frame: Frame, masters: Sequence[MasterFacts], picks: Mapping[str, str] | None = None,
    rules: Rules = USUAL_RULES,
) -> Options:  # fmt: skip
    """What every step of a frame's chain could use."""
    picks, told, more = picks or {}, [], {}
    for step in STEPS if not frame.combined else ():
        every = sorted(_usable(step, frame, masters), key=lambda i: _away(frame, masters[i], rules))
        near = [
            i
            for at, i in enumerate(every)
            if at < MOST_OPTIONS or masters[i].key == picks.get(step)
        ]
        more[step] = len(every) - len(near)
        for i in near:
            choice = picked_master(frame, masters, i, rules)
            aspects = fit_of(frame, masters[i], rules)
            told.append(
                Option(
                    step, masters[i].key, masters[i].label, choice.reason.partition(": ")[2],
                    choice.remarks, picks.get(step) == masters[i].key, grade_of(aspects),
                    tuple(aspect.words for aspect in aspects), what_differs(aspects),
                )
            )  # fmt: skip
    return Options(
        tuple(sorted(told, key=lambda o: (list(STEPS).index(o.step), GRADES.index(o.grade)))), more
    )


def can_be_picked(
    step: str, frame: Frame, masters: Sequence[MasterFacts], key: str
) -> MasterFacts | None:
    """The master of a key that a step of a frame's chain could use; None where there is none."""
    found = (masters[i] for i in _usable(step, frame, masters) if masters[i].key == key)
    return next(found, None)


def _away(frame: Frame, master: MasterFacts, rules: Rules) -> tuple[object, ...]:
    """What tells how far a master is from what a frame asks for, the worst first."""
    glass = frame.glass if frame.channel else frame.filter
    return (
        master.kind == "flat" and master.filter != glass,
        not fits_settings(frame, master),
        master.kind != "flat" and not fits_unscaled(frame, master, rules),
        days_apart(frame, master),
    )


def _stand_in_bias(
    frame: Frame, masters: Sequence[MasterFacts], nothing: Choice, rules: Rules
) -> Choice:
    short = [
        i
        for i, m in enumerate(masters)
        if m.kind in ("flat dark", "dark") and _bias_like(frame, m) and same_pixels(frame, m)
    ]
    if short:
        best = min(short, key=lambda i: masters[i].exposure_s)
        return Choice(best, f"{masters[best].label} stands in for a bias")
    if choose_dark(frame, masters, rules).index is not None:
        return nothing
    # Two lengths of dark give both what grows with time and what does not.
    darks = [
        i
        for i, m in enumerate(masters)
        if m.kind in ("flat dark", "dark") and fits_settings(frame, m)
    ]
    if not darks:
        return nothing
    first = min(darks, key=lambda i: masters[i].exposure_s)
    longest = max(masters[i].exposure_s for i in darks)
    if masters[first].exposure_s > _SHORT_SHARE * longest:
        return nothing
    return Choice(first, f"{masters[first].label} stands in for a bias")


def _bias_like(frame: Frame, master: MasterFacts) -> bool:
    return master.exposure_s <= min(_BIAS_LIKE_S, 0.1 * frame.exposure_s)


def missing_of(plan: ChainPlan) -> list[str]:
    """What a chain does without, in words."""
    missing = list(plan.lost)
    if plan.ready:
        return missing
    if plan.dark.index is None and (plan.bias.index is not None or plan.overscan):
        missing.append(plan.dark.reason)
        if plan.scaled_dark.index is None:
            missing.append(plan.scaled_dark.reason)
    elif plan.dark.index is None:
        missing.append(f"neither dark nor bias: {plan.dark.reason}")
    if plan.flat.index is None:
        missing.append(f"not flat-fielded: {plan.flat.reason}")
    return missing


def rules_of(frame: Frame, kits: Kits) -> Rules:
    """The rules in force for a frame's kit."""
    return kits.word(*frame.known_as).rules


def wanting(
    exposures: Sequence[Frame], calibration: Sequence[Frame], kits: Kits = NO_WORDS
) -> list[str]:
    """What calibration the exposures lack or have little of, as Correct will find it before
    anything is built: what that costs, and what can still be taken for it.
    """
    facts = [_expected(group) for group in group_calibration(calibration)]
    kinds = {chain_name(frame): frame for frame in exposures if not frame.combined}
    words: dict[str, None] = {}
    for name, frame in kinds.items():
        plan = plan_chain(name, frame, facts, None, rules_of(frame, kits))
        for lack in missing_of(plan):
            words[f"{lack[0].upper()}{lack[1:]}."] = None
        if plan.dark.index is None:
            words[_darks_to_take(frame, plan)] = None
        if plan.flat.index is None:
            glass = frame.glass if frame.channel else frame.filter
            words[
                f"Still to take: {_ENOUGH} flats{f' in {glass}' if glass else ''} at a third to a "
                "half of the linear limit, in twilight or on a screen. Without, dust and corners "
                "cost tens of mmag."
            ] = None
        for _, index in plan.steps:
            if facts[index].count < _FEW_FRAMES:
                words[_more_to_take(facts[index])] = None
    return list(words)


def _darks_to_take(frame: Frame, plan: ChainPlan) -> str:
    at = "" if frame.temperature_c is None else f" at {frame.temperature_c:.0f} °C"
    minutes = max(1, round(_ENOUGH * frame.exposure_s / 60.0))
    cost = (
        "Until then one of another length is scaled: hot pixels are taken off a little worse."
        if plan.scaled_dark.index is not None and (plan.bias.index is not None or plan.overscan)
        else "Without, hot pixels stay: up to 0.1 mag where one lies in a faint star's aperture."
    )
    return (
        f"Still to take: {_ENOUGH} darks of {frame.exposure_s:g} s{at}, {minutes} min with the "
        f"cover on. {cost}".replace("at -", "at −")
    )


def _more_to_take(facts: MasterFacts) -> str:
    """What few frames cost, and what more would do."""
    count, more = facts.count, _ENOUGH - facts.count
    if facts.kind == "flat":
        light = max(facts.level_adu, _USUAL_FLAT_ADU) * _USUAL_APERTURE_PX
        now, then = (1086.0 / (n * light) ** 0.5 for n in (count, _ENOUGH))
        cost = f"{now:.1f} mmag of noise for every star, {then:.1f} with {more} more"
    else:
        now, then = (100.0 * ((1.0 + 1.0 / n) ** 0.5 - 1.0) for n in (count, _ENOUGH))
        cost = f"faint stars are {now:.0f}% noisier, {then:.0f}% with {more} more"
    noun = "frame makes" if count == 1 else "frames make"
    return f"{count} {noun} {facts.label}: {cost}."


def _expected(group: Sequence[Frame]) -> MasterFacts:
    """What a master of these frames will be."""
    first = group[0]
    return MasterFacts(
        first.kind, first.filter, first.exposure_s, first.temperature_c, first.gain_setting,
        first.offset_setting, first.readout_mode, first.binning, first.shape, first.night,
        len(group), 0.0, 0.0, (), (), first.camera, first.origin, first.overscan,
        first.telescope if first.kind == "flat" else None,
    )  # fmt: skip
