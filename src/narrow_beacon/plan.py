"""The plan of a reduction: a TOML file, read with all its mistakes at once."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import Any

from narrow_beacon.core.catalogue.atlas import is_atlas
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.sequence import StarSequence, overlay
from narrow_beacon.core.catalogue.sources import NO_SOURCES, Source, Sources
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.defect_file import read_marks
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.points import AS_MEASURED, PointsWish
from narrow_beacon.core.errors import BeaconError, CatalogueError, UnreadableFileError
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.frame import Correction
from narrow_beacon.core.gate import OPEN, Gate, OutsideError
from narrow_beacon.core.kits import NO_WORDS, OF_ALL, Kits, KitWord, kit_name
from narrow_beacon.core.report.layout import LayoutError, read_layout
from narrow_beacon.core.stars.limits import Limit
from narrow_beacon.core.stars.troubles import USUAL_RULES, VetRules
from narrow_beacon.core.transform_wish import USUAL_WISH, GivenTerm, TransformWish
from narrow_beacon.plan_keys import (
    KEYS,
    RULE_KEYS,
    SECOND_ORDER,
    VET_RULE_KEYS,
    RadiusRule,
    file_word,
    given_term,
    kit_word,
    like,
    picked_masters,
    text_of,
)

_MOST_BYTES = 1_000_000
_MOST_TARGETS = 100
_BESIDE = " beside"


@dataclass(frozen=True)
class Vetting:
    """What is worth measuring: the rules by which exposures are put forward to be set aside, the
    observer's limits, and single exposures that take part whatever these say, or do not, with the
    reason, by name.
    """

    rules: VetRules = USUAL_RULES
    limits: tuple[Limit, ...] = ()
    keep: tuple[str, ...] = ()
    set_aside: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class TargetWish:
    """A target as the observer names it: by name, position in degrees, or both; its colour, and the
    names of its cast where that is not the program's to choose.
    """

    name: str | None = None
    ra_deg: float | None = None
    dec_deg: float | None = None
    colour: float | None = None
    comparison: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()


class PlanError(BeaconError):
    """An unusable plan: ``mistakes`` holds one line for each."""

    def __init__(self, mistakes: list[str]) -> None:
        super().__init__("\n".join(mistakes))
        self.mistakes = mistakes


@dataclass(frozen=True)
class Plan:
    """What to reduce and how. Absent values are None; see docs/formats.md."""

    path: Path
    text: str
    folders: tuple[Path, ...]
    library: Path | None = None
    default_filter: str | None = None
    leave_out: tuple[str, ...] = ()
    """Names of files that take no part, as the plan's folder sees them; * and ? stand for any."""
    files: Mapping[str, Correction] = field(default_factory=dict)
    """What is said of single files in place of their headers, by their names."""
    picks: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    """The observer's masters by the chain's name and step: keys of masters, or "none"."""
    catalogue_file: Path | None = None
    sources: Sources = NO_SOURCES
    """Where stars come from that are not all read at once: atlases and services."""
    columns: Mapping[str, str] = field(default_factory=dict)
    """What the observer says of the catalogue file's columns."""
    epoch_yr: float | None = None
    site: Site | None = None
    gain_e_per_adu: float | None = None
    read_noise_e: float | None = None
    linear_limit_adu: float | None = None
    aperture_m: float | None = None
    scale_arcsec_per_px: float | None = None
    timestamp: str = "start"
    clock_offset_s: float = 0.0
    target_name: str | None = None
    target_ra_deg: float | None = None
    target_dec_deg: float | None = None
    target_sure: bool = True
    """False where name and position are only what the headers say the telescope pointed at."""
    bands: Mapping[str, str] = field(default_factory=dict)
    """The catalogue's band by the filter's name, where the observer says so."""
    kits: Kits = NO_WORDS
    """Rules of all kits, and what is said of single ones."""
    transform: TransformWish = USUAL_WISH
    """How magnitudes are brought to the standard scale."""
    pattern: str | None = None
    """The colour pattern of the sensor, in place of the headers'."""
    vetting: Vetting = field(default_factory=Vetting)
    comparison: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    beside: tuple[TargetWish, ...] = ()
    """Other targets in the field, each with its own cast."""
    sequence: StarSequence | None = None
    """Comparison stars with magnitudes of their own, laid over the catalogue."""
    radius: RadiusRule = field(default_factory=RadiusRule)
    steps: Mapping[str, float] = field(default_factory=dict)
    """Radii of single filters, of the usual set and in star widths, in place of the best."""
    annulus: tuple[float, float] = (3.5, 5.5)
    annulus_in_pixels: bool = False
    floor: bool = False
    """Whether uncertainties hold the night's correlated noise, too."""
    points: PointsWish = AS_MEASURED
    """Rules for points, and what is taken out of them."""
    output: Path = Path("out")
    layout: str = "plain"
    layout_text: str = ""
    """The layout itself, where it is neither one of ours nor a file."""
    report_fields: Mapping[str, str] = field(default_factory=dict)
    """The observer's own fields of the layout."""
    doubtful: bool = False
    """Whether doubtful points are reported too."""
    sheet: bool = False
    """Whether a night sheet is written, as HTML and PDF."""
    stars: StarTable | None = None
    """The catalogue, where it came from a file."""

    @property
    def cone_url(self) -> str | None:
        """The first service's address."""
        return next((s.place for s in self.sources.stars if s.kind == "service"), None)

    @property
    def has_stars(self) -> bool:
        """Whether it is said where stars come from."""
        return self.stars is not None or bool(self.sources.stars)

    def of_target(self, wish: TargetWish) -> Plan:
        """The same plan with another target and its cast."""
        return replace(
            self, target_name=wish.name, target_ra_deg=wish.ra_deg, target_dec_deg=wish.dec_deg,
            target_sure=True, comparison=wish.comparison, checks=wish.checks, beside=(),
            transform=replace(self.transform, colour=wish.colour),
        )  # fmt: skip

    @property
    def base(self) -> Path:
        """The folder that the plan's paths are relative to."""
        return self.path.parent

    @property
    def sequence_file(self) -> Path | None:
        """Where the sequence was read from."""
        return None if self.sequence is None else self.sequence.path

    def line_of(self, section: str, key: str, number: int = 0) -> int:
        """The line on which a key stands, or that of its section, or 1; ``number`` counts sections
        of the same name.
        """
        return _line_of(self.text, section, key, number)


_PATHS = (
    ("frames", "folder"), ("frames", "library"), ("catalogue", "file"), ("output", "layout"),
    ("defects", "map"), ("catalogue", "variables"), ("catalogue", "cache"), ("sequence", "file"),
)  # fmt: skip


class _Notes:
    """Collects mistakes with the line of the plan that each is about."""

    def __init__(self, path: Path, text: str) -> None:
        self._path = path
        self._text = text
        self._found: list[tuple[int, str]] = []

    def add(self, section: str, key: str, words: str, number: int = 0) -> None:
        line = _line_of(self._text, section, key, number)
        place = f"[{section}] {key}".strip()
        self._found.append((line, f"{self._path.name}:{line}: {place}: {words}"))

    def lines(self) -> list[str]:
        return [words for _, words in sorted(self._found, key=lambda item: item[0])]


def _line_of(text: str, section: str, key: str, number: int = 0) -> int:
    found = 1
    inside = False
    seen = 0
    for at, line in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[{1,2}\s*([\w-]+)\s*\]", line)
        if header:
            inside = header.group(1) == section and seen == number
            seen += header.group(1) == section
            if inside:
                found = at
        elif inside and key and re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", line):
            return at
    return found


def read_plan(path: Path, gate: Gate = OPEN) -> Plan:
    """Read and check a plan, its catalogue file and the names in its cast; ``gate`` says which
    files it may name.

    Raises PlanError with every mistake found.
    """
    try:
        gate.check(path)
        if path.stat().st_size > _MOST_BYTES:
            raise PlanError([f"{path}: larger than any plan is"])
        text = path.read_text(encoding="utf-8")
    except OutsideError as error:
        raise PlanError([str(error)]) from error
    except OSError as error:
        raise PlanError([f"{path}: cannot be opened ({error.strerror})"]) from error
    except UnicodeDecodeError as error:
        raise PlanError([f"{path}: is not a text file in UTF-8"]) from error
    try:
        document = tomllib.loads(text)
    except RecursionError as error:
        raise PlanError([f"{path.name}:1: not a plan: it is nested too deeply"]) from error
    except tomllib.TOMLDecodeError as error:
        line = re.search(r"at line (\d+)", str(error))
        where = line.group(1) if line else "1"
        raise PlanError([f"{path.name}:{where}: not TOML: {str(error)[:200]}"]) from error
    notes = _Notes(path, text)
    values = _parse(document, notes)
    _keep_inside(path.resolve().parent, values, notes, gate)
    plan = _assemble(path.resolve(), text, values, notes)
    plan = _check_catalogue(plan, values, notes)
    mistakes = notes.lines()
    if mistakes:
        raise PlanError(mistakes)
    return plan


def _parse(document: dict[str, Any], notes: _Notes) -> dict[tuple[str, str], Any]:
    values: dict[tuple[str, str], Any] = {}
    for section, content in document.items():
        if section not in KEYS:
            notes.add(section, "", f"no such section{like(section, KEYS)}")
            continue
        several = section == "target" and isinstance(content, list)
        parts = content if several else [content]
        if not all(isinstance(part, dict) for part in parts) or len(parts) > _MOST_TARGETS:
            notes.add(section, "", "must be a section of its own, [" + section + "]")
            continue
        for number, part in enumerate(parts):
            read = _section(section, part, notes, number)
            if number == 0:
                values |= read
            else:
                others = values.setdefault((section, _BESIDE), [])
                others.append({key: value for (_, key), value in read.items()})
    return values


def _section(
    section: str, content: dict[str, Any], notes: _Notes, number: int
) -> dict[tuple[str, str], Any]:
    values: dict[tuple[str, str], Any] = {}
    for key, value in content.items():
        parse = text_of if section == "bands" else KEYS[section].get(key)
        if section == "kits":
            parse = partial(kit_word, key)
        if section == "files":
            parse = file_word
        if section == "masters":
            parse = picked_masters
        if section == "transform" and parse is None:
            parse = given_term
        if parse is None:
            notes.add(section, key, f"no such key{like(key, KEYS[section])}", number)
            continue
        try:
            values[section, key] = parse(value)
        except ValueError as error:
            notes.add(section, key, str(error), number)
            values[section, key] = None
    return values


def _keep_inside(base: Path, values: dict[tuple[str, str], Any], notes: _Notes, gate: Gate) -> None:
    """Note every path that leads out of what may be read, and take it out before it is read."""
    for place in _PATHS:
        given = values.get(place)
        for name in (given,) if isinstance(given, str) else given or ():
            try:
                gate.check(base / name)
            except OutsideError as error:
                notes.add(*place, str(error))
                values[place] = None


def _assemble(path: Path, text: str, values: dict[tuple[str, str], Any], notes: _Notes) -> Plan:
    base = path.parent

    def get(section: str, key: str, default: Any = None) -> Any:
        value = values.get((section, key))
        return default if value is None else value

    folders = tuple(base / name for name in get("frames", "folder", ()))
    if ("frames", "folder") not in values:
        notes.add("frames", "folder", "is missing: the folder of the night's files")
    for folder in folders:
        if not folder.is_dir():
            notes.add("frames", "folder", f"there is no folder {folder}")
    library = base / get("frames", "library") if get("frames", "library") else None
    if library and not library.is_dir():
        notes.add("frames", "library", f"there is no folder {library}")
    site = None
    if get("site", "latitude_deg") is not None and get("site", "longitude_deg") is not None:
        site = Site(
            get("site", "latitude_deg"),
            get("site", "longitude_deg"),
            get("site", "elevation_m", 0.0),
        )
    elif any(section == "site" for section, _ in values):
        notes.add("site", "", "needs both latitude_deg and longitude_deg")
    beside = _beside(get("target", _BESIDE, ()), values, notes)
    if (get("target", "ra") is None) != (get("target", "dec") is None):
        notes.add("target", "ra", "give both ra and dec, or neither")
    layout = get("output", "layout", "plain")
    try:
        read_layout(layout, base)
    except LayoutError as error:
        notes.add("output", "layout", str(error))
    file = get("catalogue", "file")
    marks = get("defects", "marks")
    if get("defects", "map"):
        try:
            marks = (*(marks or ()), *read_marks(base / get("defects", "map")))
        except (UnreadableFileError, OSError) as error:
            notes.add("defects", "map", str(error))
    return Plan(
        path=path,
        text=text,
        folders=folders,
        library=library,
        default_filter=get("frames", "filter"),
        leave_out=get("frames", "leave_out", ()),
        files={
            key: value for (section, key), value in values.items() if section == "files" and value
        },
        picks={
            key: value for (section, key), value in values.items() if section == "masters" and value
        },
        catalogue_file=base / file if file else None,
        sources=_sources(base, get, file),
        columns=get("catalogue", "columns", {}),
        epoch_yr=get("catalogue", "epoch"),
        site=site,
        gain_e_per_adu=get("kit", "gain_e_per_adu"),
        read_noise_e=get("kit", "read_noise_e"),
        linear_limit_adu=get("kit", "linear_limit_adu"),
        aperture_m=get("kit", "aperture_m"),
        scale_arcsec_per_px=get("kit", "scale_arcsec_per_px"),
        timestamp=get("kit", "timestamp", "start"),
        clock_offset_s=get("kit", "clock_offset_s", 0.0),
        target_name=get("target", "name"),
        target_ra_deg=get("target", "ra"),
        target_dec_deg=get("target", "dec"),
        bands={
            **get("colour_sensor", "channels", {}),
            **{
                filter_name(key): value
                for (section, key), value in values.items()
                if section == "bands" and value
            },
        },
        kits=Kits(
            {
                OF_ALL: KitWord(
                    **{key: get("kit", key) for key in RULE_KEYS},
                    defect_threshold=get("defects", "threshold"),
                    marks=marks,
                ),
                **{
                    kit_name(key): value
                    for (section, key), value in values.items()
                    if section == "kits" and value
                },
            }
        ),
        transform=_transform(values, get),
        pattern=get("colour_sensor", "pattern"),
        vetting=Vetting(
            VetRules(**{key: values["vet", key] for key in VET_RULE_KEYS if get("vet", key)}),
            get("vet", "limits", ()),
            get("vet", "keep", ()),
            get("vet", "set_aside", {}),
        ),
        comparison=get("target", "comparison", get("cast", "comparison", ())),
        checks=get("target", "check", get("cast", "check", ())),
        beside=beside,
        sequence=_sequence(base, values, get, notes),
        radius=get("measure", "radius", RadiusRule()),
        steps=get("measure", "steps", {}),
        annulus=get("measure", "annulus", (3.5, 5.5)),
        annulus_in_pixels=get("measure", "unit", "fwhm") == "px",
        floor=get("measure", "floor", False),
        points=PointsWish(
            get("points", "most_uncertainty"),
            get("points", "check_off"),
            get("points", "without", ()),
            get("points", "take_out", ()),
            get("points", "nights_alike", False),
        ),
        output=base / get("output", "folder", "out"),
        layout=layout,
        report_fields=get("output", "fields", {}),
        doubtful=get("output", "doubtful", False),
        sheet=get("output", "sheet", False),
    )


def _sequence(
    base: Path, values: Mapping[tuple[str, str], Any], get: Callable[..., Any], notes: _Notes
) -> StarSequence | None:
    file = get("sequence", "file")
    if file is None:
        if any(section == "sequence" for section, _ in values):
            notes.add("sequence", "", "needs the file of the sequence")
        return None
    columns = get("sequence", "columns", {})
    try:
        stars = read_catalogue(base / file, get("sequence", "epoch"), columns)
    except CatalogueError as error:
        notes.add("sequence", "file", str(error))
        return None
    return StarSequence(stars, get("sequence", "chart", ""), file_sha256(base / file), base / file)


def _beside(
    others: Sequence[Mapping[str, Any]], values: Mapping[tuple[str, str], Any], notes: _Notes
) -> tuple[TargetWish, ...]:
    """The other targets; those without a cast of their own take what [cast] says."""
    found = []
    for number, said in enumerate(others, 1):
        name, ra, dec = said.get("name"), said.get("ra"), said.get("dec")
        if (ra is None) != (dec is None):
            notes.add("target", "ra", "give both ra and dec, or neither", number)
        if name is None and ra is None:
            notes.add("target", "", "needs a name, or a position", number)
        comparison = said.get("comparison") or values.get(("cast", "comparison")) or ()
        checks = said.get("check") or values.get(("cast", "check")) or ()
        found.append(TargetWish(name, ra, dec, said.get("colour"), comparison, checks))
    return tuple(found)


def _transform(values: dict[tuple[str, str], Any], get: Callable[..., Any]) -> TransformWish:
    extinction: dict[str, float] = get("transform", "extinction", {})
    second = {
        filter_name(key.removeprefix(SECOND_ORDER)): value
        for key, value in extinction.items()
        if key.startswith(SECOND_ORDER)
    }
    return TransformWish(
        get("transform", "apply", True),
        {
            filter_name(key): value
            for (section, key), value in values.items()
            if section == "transform" and isinstance(value, GivenTerm)
        },
        {
            filter_name(key): value
            for key, value in extinction.items()
            if not key.startswith(SECOND_ORDER)
        },
        second,
        get("target", "colour"),
    )


def _sources(base: Path, get: Callable[..., Any], file: str | None) -> Sources:
    epoch, columns = get("catalogue", "epoch"), get("catalogue", "columns", {})
    stars = [Source("service", url, "", epoch, columns) for url in get("catalogue", "cone", ())]
    if file and is_atlas(base / file):
        stars.append(Source("atlas", str(base / file)))
    variables, cache = get("catalogue", "variables"), get("catalogue", "cache")
    known: tuple[Source, ...] = ()
    if variables:
        kind = "atlas" if is_atlas(base / variables) else "file"
        known = (Source(kind, str(base / variables)),)
    merge = get("catalogue", "merge", False)
    return Sources(tuple(stars), merge, known, base / cache if cache else None)


def _check_catalogue(plan: Plan, values: dict[tuple[str, str], Any], notes: _Notes) -> Plan:
    given = [key for key in ("file", "cone") if ("catalogue", key) in values]
    if len(given) != 1:
        words = "give either file or cone" + (
            ", not both" if given else ": a star catalogue is needed"
        )
        notes.add("catalogue", "cone" if given else "", words)
        return plan
    for source in plan.sources.stars:
        if source.kind == "service" and not re.match(r"https?://", source.place):
            notes.add(
                "catalogue", "cone", "must be an address that starts with http:// or https://"
            )
    for source in plan.sources.variables:
        if not Path(source.place).exists():
            notes.add("catalogue", "variables", f"there is no file {source.place}")
    if plan.sources.stars or plan.catalogue_file is None:
        return plan
    try:
        stars = read_catalogue(plan.catalogue_file, plan.epoch_yr, plan.columns)
    except CatalogueError as error:
        notes.add("catalogue", "file", str(error))
        return plan
    for section, key, number, words in cast_mistakes(plan, stars):
        notes.add(section, key, words, number)
    return replace(plan, stars=stars)


def cast_mistakes(plan: Plan, stars: StarTable) -> list[tuple[str, str, int, str]]:
    """(section, key, which of the targets, words) for every name in the plan that the catalogue
    doesn't know, or that has two roles.
    """
    if plan.sequence is not None:
        stars = overlay(stars, plan.sequence).stars  # its names are known, too
    found = []
    for number, own in enumerate([plan, *(plan.of_target(wish) for wish in plan.beside)]):
        for key, words in _mistakes(own, stars):
            line = plan.line_of("target", key, number)
            theirs = key == "name" or line > plan.line_of("target", "", number)
            found.append(("target", key, number, words) if theirs else ("cast", key, 0, words))
    return list(dict.fromkeys(found))


def _mistakes(plan: Plan, stars: StarTable) -> list[tuple[str, str]]:
    mistakes = []
    if plan.target_name is not None and plan.target_ra_deg is None:
        mistakes += _unknown(
            stars, "name", plan.target_name, "; give ra and dec for a star it lacks"
        )
    for name in plan.comparison:
        mistakes += _unknown(stars, "comparison", name, "")
        if name in (plan.target_name, *plan.checks):
            mistakes.append(("comparison", f"“{name}” has another role already"))
    for name in plan.checks:
        mistakes += _unknown(stars, "check", name, "")
        if name == plan.target_name:
            mistakes.append(("check", f"“{name}” is the target"))
    return mistakes


def _unknown(stars: StarTable, key: str, name: str, advice: str) -> list[tuple[str, str]]:
    try:
        stars.row(name)
    except CatalogueError as error:
        return [(key, f"{error}{advice}")]
    return []
