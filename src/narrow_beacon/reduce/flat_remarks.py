"""Remarks on flats of one filter that differ from one night to the next: dust that moved, light
that fell otherwise. Each pair is compared once, by the workers.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from narrow_beacon.core.correct.flat_verdict import FlatVerdict, judge_flats
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.workers import Pool
from narrow_beacon.rescue import Rescue

_LARGE_SCALE_MATTERS = 0.004
"""Differences from side to side that are said."""


@dataclass(frozen=True)
class FlatsCompared:
    """What two flats say of each other."""

    remarks: tuple[Remark, ...] = ()


def flat_remarks(
    masters: Sequence[MasterFile],
    pool: Pool,
    known: Callable[[str], FlatsCompared | None] = lambda _: None,
    keep: Callable[[str, FlatsCompared], None] = lambda _name, _found: None,
) -> list[Remark]:
    """Remarks on the flats among some masters, each against the one of the night before it. What
    is ``known`` under the name of a pair is not compared again; what is found is for ``keep``.
    """
    pairs = {_pair_print(*(m.facts for m in pair)): pair for pair in _pairs(masters)}
    found = {name: known(name) for name in pairs}
    todo = [name for name in pairs if found[name] is None]
    calls = [
        (later.path, later.facts.label, earlier.path, earlier.facts.label)
        for later, earlier in (pairs[name] for name in todo)
    ]
    for name, own in zip(todo, pool.map(_compared, calls, rescue=_COMPARING), strict=True):
        keep(name, own)
        found[name] = own
    return [remark for own in found.values() if own for remark in own.remarks]


def _pairs(masters: Sequence[MasterFile]) -> list[tuple[MasterFile, MasterFile]]:
    """Each flat with the one before it, of another night and the same optics."""
    pairs = []
    last: dict[tuple[object, ...], MasterFile] = {}
    flats = [master for master in masters if master.facts.kind == "flat"]
    for later in sorted(flats, key=lambda master: master.facts.night):
        earlier = last.get(_optics(later.facts))
        last[_optics(later.facts)] = later
        if earlier is not None and earlier.facts.night != later.facts.night:
            pairs.append((later, earlier))
    return pairs


def _pair_print(later: MasterFacts, earlier: MasterFacts) -> str:
    """The name of what a comparison is told from."""
    both = [
        (one.key, one.inputs, one.made_with, one.combined, one.clip_sigma)
        for one in (later, earlier)
    ]
    return fingerprint("flats", *both)


def _compared(later: Path, its_label: str, earlier: Path, other_label: str) -> FlatsCompared:
    try:
        verdict = judge_flats(read_master(later).plane, read_master(earlier).plane)
    except (UnreadableFileError, OSError):
        return FlatsCompared()  # what is wrong with it is said where it is used
    between = f"between {other_label} and {its_label}"
    remarks = [_dust(verdict, between)] if verdict.changes else []
    wide = max(verdict.slope, abs(verdict.radial))
    if wide > _LARGE_SCALE_MATTERS:
        words = "; ".join(w for w in verdict.words if w.startswith(("a gradient", "corners")))
        remarks.append(
            Remark(
                "correct", f"the light fell otherwise {between}: {words}",
                matters=f"up to {543 * wide:.0f} mmag at the edges, if either is wrong",
                remedy="look for stray light; take flats with the cover or the screen straight",
            )
        )  # fmt: skip
    return FlatsCompared(tuple(remarks))


_COMPARING: Rescue[FlatsCompared] = Rescue(
    lambda call: [call], lambda _call, _words: FlatsCompared(), lambda parts: parts[0]
)


def _dust(verdict: FlatVerdict, between: str) -> Remark:
    changes = verdict.changes
    places = ", ".join(
        f"x {c.x_px:.0f} y {c.y_px:.0f} ({100 * c.change:+.1f}%)" for c in changes[:4]
    )
    count = "1 place differs" if len(changes) == 1 else f"{len(changes)} places differ"
    moved = "".join(f"; moved by {s.dx_px:+.1f}, {s.dy_px:+.1f} px" for s in verdict.shifts[:2])
    worst = max(abs(c.change) for c in changes)
    return Remark(
        "correct",
        f"dust moved {between}: {count}, {places}{moved}; each night keeps its own flat".replace(
            " -", " −"
        ).replace("(-", "(−"),
        matters=f"up to {1086 * worst:.0f} mmag for a star on such a place, if a "
        "flat of the other night were used",
        remedy="keep taking flats for every night",
    )


def _optics(facts: MasterFacts) -> tuple[object, ...]:
    return (
        facts.filter, facts.shape, facts.binning, facts.camera, facts.telescope, facts.rotator_deg,
    )  # fmt: skip
