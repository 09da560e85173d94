"""Masters: built from a set of calibration frames, each named by what went into it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from narrow_beacon.core.correct.masters import (
    MasterFacts,
    build_master,
    group_calibration,
    is_master,
    read_facts,
    read_master,
    write_master,
)
from narrow_beacon.core.correct.match import choose_bias, choose_dark
from narrow_beacon.core.correct.ready_made import read_ready_made
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import file_sha256, read_pixels
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import NO_WORDS, Kits, Rules
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.workers import Pool


@dataclass(frozen=True)
class MasterFile:
    """A master on disk."""

    facts: MasterFacts
    path: Path


@dataclass(frozen=True)
class BuiltMaster:
    """What building a master came to: None where nothing could be built, and words on frames that
    could not be used.
    """

    master: MasterFile | None
    problems: tuple[str, ...] = ()


def build_masters(
    frames: Sequence[Frame],
    folder: Path,
    scratch: Path,
    workers: Pool,
    done: Callable[[BuiltMaster], None] = lambda _: None,
    kits: Kits = NO_WORDS,
    known: Mapping[Path, MasterFacts] | None = None,
) -> tuple[list[MasterFile], list[Remark]]:
    """Combine all calibration frames into masters under ``folder``; flats after the rest;
    each by the rules of its kit.

    A master that is there already under its name was made of the same frames and stays; ``known``
    are facts of such, by their paths. Frames and groups that fail are remarked on, and the rest
    goes on.
    """

    def made(calls: Sequence[_Call]) -> list[BuiltMaster]:
        there = {
            at: BuiltMaster(MasterFile(facts, path))
            for at, (_, path, *_) in enumerate(calls)
            if (facts := (known or {}).get(path)) is not None and _whole(path, facts)
        }
        for one in there.values():
            done(one)
        todo = [call for at, call in enumerate(calls) if at not in there]
        rest = iter(workers.map(_build, todo, done))
        return [there[at] if at in there else next(rest) for at in range(len(calls))]

    groups = group_calibration(frames)
    first = [group for group in groups if group[0].kind != "flat"]
    rules = {id(group): kits.word(*group[0].known_as).rules for group in groups}
    built = made([_call(group, folder, scratch, None, rules[id(group)]) for group in first])
    masters = [one.master for one in built if one.master]
    facts = [master.facts for master in masters]
    calls = []
    for group in groups:
        if group[0].kind != "flat":
            continue
        choice = choose_dark(group[0], facts, rules[id(group)])
        if choice.index is None:
            choice = choose_bias(group[0], facts, rules[id(group)])
        signal = None if choice.index is None else masters[choice.index].path
        calls.append(_call(group, folder, scratch, signal, rules[id(group)]))
    flats = made(calls)
    masters += [one.master for one in flats if one.master]
    remarks = [
        Remark(
            "correct", words,
            matters="it is missing from its master",
            remedy="look at the file in Intake; take a new one, or leave it out",
        )
        for one in (*built, *flats)
        for words in one.problems
    ]  # fmt: skip
    return masters, remarks


def _whole(path: Path, facts: MasterFacts) -> bool:
    """Whether a master's file is there, and as long as its plane."""
    try:
        return path.stat().st_size > _PIXEL_BYTES * facts.shape[0] * facts.shape[1]
    except OSError:
        return False


_PIXEL_BYTES = 4
_Call = tuple[Sequence[Frame], Path, Path, Path | None, Rules]


def _call(
    group: Sequence[Frame], folder: Path, scratch: Path, signal: Path | None, rules: Rules
) -> _Call:
    path = folder / f"{_file_name(group, signal, rules)}.fits"
    return group, path, scratch, signal, rules


def _build(
    group: Sequence[Frame], path: Path, scratch: Path, signal: Path | None, rules: Rules
) -> BuiltMaster:
    if path.exists():
        try:
            return BuiltMaster(MasterFile(read_facts(path), path))
        except UnreadableFileError:
            path.unlink()
    try:
        master = build_master(group, scratch, read_master(signal) if signal else None, rules)
    except Exception as error:
        good = [frame for frame in group if _readable(frame)]
        bad = [frame.name for frame in group if frame not in good]
        if not good or not bad:
            what = f"the master of {len(group)} {group[0].kind} frames"
            return BuiltMaster(None, (words_of(error, "building", what),))
        rest = _build(*_call(good, path.parent, scratch, signal, rules))
        words = f"{', '.join(bad)} could not be read, so it is not in its master: {error}"
        return BuiltMaster(rest.master, (words, *rest.problems))
    write_master(master, path)
    return BuiltMaster(MasterFile(master.facts, path))


def _readable(frame: Frame) -> bool:
    try:
        read_pixels(frame.source)
    except (UnreadableFileError, OSError):
        return False
    return True


def _file_name(group: Sequence[Frame], signal: Path | None, rules: Rules) -> str:
    """What the master is, and a name of all that goes into it."""
    frame = group[0]
    words = [frame.kind, frame.filter or ""]
    if frame.kind in ("dark", "flat dark"):
        words.append(f"{frame.exposure_s:g}s")
    if frame.temperature_c is not None:
        words.append(f"{frame.temperature_c:.0f}C".replace("-", "minus"))
    name = "-".join(word for word in [*words, frame.night] if word).replace(" ", "-")
    inputs = [(f.sha256 + f.part, f.kind, f.filter, f.exposure_s, f.night) for f in group]
    content = fingerprint(inputs, signal.name if signal else "", *rules.combination)
    return f"{re.sub(r'[^A-Za-z0-9.-]', '_', name)}-{content[:12]}"


def library_masters(
    folder: Path | None, imports: Path, longitude_deg: float = 0.0
) -> tuple[list[MasterFile], list[Remark]]:
    """Masters of earlier nights, and remarks on files that are none. Those that were made elsewhere
    are taken over below ``imports``; their nights are those of a longitude.
    """
    found, problems = [], []
    for path in sorted(folder.rglob("*.fit*")) if folder else []:
        try:
            own = path if is_master(path) else import_master(path, imports, longitude_deg)
            found.append(MasterFile(read_facts(own), own))
        except UnreadableFileError as error:
            problems.append(
                Remark(
                    "correct", f"library: {error}", matters="it is passed over",
                    remedy="move it out of the folder of masters",
                )
            )  # fmt: skip
    return found, problems


def import_master(path: Path, folder: Path, longitude_deg: float = 0.0) -> Path:
    """Take a ready-made master over into a folder, under a name of what it is. Raises
    UnreadableFileError.
    """
    master = read_ready_made(path, longitude_deg)
    name = re.sub(r"[^A-Za-z0-9.-]+", "-", master.facts.label.replace("−", "minus"))
    own = folder / f"{name}-{fingerprint(file_sha256(path))[:12]}.fits"
    if not own.exists():
        write_master(master, own)
    return own
