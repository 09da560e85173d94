"""Chains: for every kind of exposure the masters that correct it, why, and planes of them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from narrow_beacon.core.correct.defects import defects_said
from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.correct.match import Choice
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import NO_WORDS, Kits, Rules
from narrow_beacon.core.measure.noise import MastersNoise
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.chain_plan import ChainPlan, missing_of, plan_chain, rules_of
from narrow_beacon.reduce.chain_planes import Planes, made_planes, note_in
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.names import chain_name, fingerprint
from narrow_beacon.reduce.workers import Pool

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
    there = {call[0].name: build_chain(*call) for call in calls if note_in(call[-1]).exists()}
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
        made = made_planes(plan, masters, examples, folder)
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


def _stations(plan: ChainPlan, masters: Sequence[MasterFile], made: Planes) -> list[Station]:
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
