"""The field of a plan: its catalogue, its target, and the band of each filter."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from narrow_beacon.core.bands import BY_NAME, CLEAR, band_of_filter, stand_in
from narrow_beacon.core.catalogue.sequence import overlay
from narrow_beacon.core.catalogue.sky_index import SkyIndex, separation_deg
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.errors import BeaconError, CatalogueError
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan, PlanError, TargetWish, cast_mistakes
from narrow_beacon.reduce.solving import place_anywhere
from narrow_beacon.reduce.sources import Found, marked_variables, stars_about

_DEFAULT_CONE_DEG = 1.0
_TRIED = 4
_MATCH_TARGET_DEG, _NEAR_TARGET_DEG = 3.0 / 3600.0, 2.0 / 60.0


@dataclass(frozen=True)
class Field:
    """The stars of a field and the target's row among them; None while it is not known."""

    stars: StarTable
    target: int | None
    remarks: tuple[Remark, ...] = ()
    added: bool = False
    """Whether the target itself was added to the stars."""
    origins: tuple[str, ...] = ()
    """Names of the catalogues that the stars came from, where they were looked up."""
    looked_up: tuple[Remark, ...] = ()
    """What was to say of that: it holds as long as these stars do."""
    bare: StarTable | None = None
    """The stars as the catalogue has them, where a sequence is laid over it: exposures are placed
    and measured by these, whatever sequence there is, unless it brings a band that they lack."""
    beside: tuple[tuple[TargetWish, int], ...] = ()
    """The other targets that are known, with their rows."""

    @property
    def targets(self) -> tuple[int, ...]:
        """Rows of all targets that are known, the first one first."""
        first = () if self.target is None else (self.target,)
        return (*first, *(row for _, row in self.beside))


class NoFieldError(BeaconError):
    """Nothing says which stars to take, or where they are; says what to give."""


def field_of(plan: Plan, exposures: Sequence[Frame]) -> Field:
    """The catalogue, from its file or service, and the target's row in it.

    A target that the catalogue lacks is added at the plan's position, with a remark. Raises
    PlanError where a service fails or a name of the cast is unknown, NoFieldError where there is
    nothing to go by.
    """
    if plan.stars is not None:
        stars, remarks = marked_variables(plan.stars, plan.sources)
        origins: tuple[str, ...] = ()
        looked_up: tuple[Remark, ...] = ()
    else:
        found = _searched(plan, exposures)
        stars, origins, looked_up = found.stars, found.origins, found.remarks
        remarks = []
    field = _with_target(plan, Field(stars, None, tuple(remarks), False, origins, looked_up))
    for wish in plan.beside:
        more = _with_target(plan.of_target(wish), replace(field, target=None))
        known = () if more.target is None else ((wish, more.target),)
        field = replace(more, target=field.target, beside=(*field.beside, *known))
    if plan.sequence is None:
        return field
    laid = overlay(field.stars, plan.sequence)
    said = (*field.remarks, *laid.remarks)
    # A band that only the sequence knows is needed to measure in.
    bare = field.stars if laid.stars.bands.keys() == field.stars.bands.keys() else None
    return replace(field, stars=laid.stars, bare=bare, remarks=said)


def _with_target(plan: Plan, field: Field) -> Field:
    """The field with the row of a plan's target, which is added where the catalogue lacks it."""
    stars = field.stars
    row = find_target(plan, stars)
    if row is not None:
        said = (*field.remarks, *_two_places(plan, stars, row))
        return replace(field, target=row, remarks=said)
    if plan.target_ra_deg is None or plan.target_dec_deg is None or not plan.target_sure:
        words = "the target is not known yet"
        if plan.target_name:
            words = f"the catalogue does not know the target {plan.target_name}"
        remedy = "click it in Cast and press T, or give its position in Intake"
        remark = Remark("cast", words, matters="there is no curve without it", remedy=remedy)
        return replace(field, remarks=(*field.remarks, remark))
    name = plan.target_name or "target"
    stars = stars.with_star(name, plan.target_ra_deg, plan.target_dec_deg)
    remark = Remark(
        "cast",
        f"the catalogue has no star within 3″ of the target's position{_nearest_words(plan, field)}"
        f": {name} is measured there all the same",
        name,
        "its brightness and colour are unknown, so that comparison stars can't be chosen by them",
        "check the position, or take a deeper catalogue",
    )
    return replace(
        field, stars=stars, target=len(stars) - 1, remarks=(*field.remarks, remark), added=True
    )


def _nearest_words(plan: Plan, field: Field) -> str:
    """Which star is nearest to the target's position, where that may be the one that is meant."""
    ra, dec = field.stars.at_epoch(_epoch(plan))
    if not ra.size or plan.target_ra_deg is None or plan.target_dec_deg is None:
        return ""
    row, away = SkyIndex(ra, dec).nearest(plan.target_ra_deg, plan.target_dec_deg)
    if away > _NEAR_TARGET_DEG:
        return ""
    return f", the nearest is {field.stars.names[row]}, {_apart(away)} away"


def _two_places(plan: Plan, stars: StarTable, row: int) -> list[Remark]:
    """Words where the target's name is that of a star elsewhere than its position."""
    if plan.target_ra_deg is None or plan.target_dec_deg is None or not plan.target_sure:
        return []
    named = stars.find(plan.target_name or "")
    if named is None:
        return []
    ra, dec = stars.at_epoch(_epoch(plan))
    away = float(separation_deg(ra[named], dec[named], plan.target_ra_deg, plan.target_dec_deg))
    if away < _MATCH_TARGET_DEG:
        return []
    return [
        Remark(
            "cast",
            f"the catalogue has {stars.names[named]} {_apart(away)} from the position that is "
            f"given for it: {stars.names[row]} is measured",
            plan.target_name or "",
            "if the other was meant, the curve is another star's",
            "leave out the name or the position, whichever is wrong",
        )
    ]


def _apart(degrees: float) -> str:
    """A distance on the sky in its handiest unit."""
    for unit, size in (("°", 1.0), ("′", 60.0)):
        if degrees * size >= 1.0:
            return f"{degrees * size:.1f}{unit}"
    return f"{3600.0 * degrees:.1f}″"


def _epoch(plan: Plan) -> float:
    """Of the target's position."""
    return 2000.0 if plan.epoch_yr is None else plan.epoch_yr


def _searched(plan: Plan, exposures: Sequence[Frame]) -> Found:
    if not plan.sources.stars:
        raise NoFieldError(
            "No catalogue yet: name a file or a cone search service in Intake, so that the "
            "exposures can be placed on the sky."
        )
    try:
        found = search_around(plan, exposures)
    except NoFieldError:
        raise
    except BeaconError as error:
        if not plan.text:
            raise
        key = "cone" if plan.cone_url else "file"
        line = plan.line_of("catalogue", key)
        raise PlanError([f"{plan.path.name}:{line}: [catalogue] {key}: {error}"]) from error
    mistakes = [
        f"{plan.path.name}:{plan.line_of(section, key, number)}: [{section}] {key}: {words}"
        for section, key, number, words in cast_mistakes(plan, found.stars)
    ]
    if mistakes and plan.text:
        raise PlanError(mistakes)
    return found


def search_around(plan: Plan, exposures: Sequence[Frame]) -> Found:
    """The stars that the plan's catalogues have about the target, or where the telescope pointed,
    wide enough for the exposures. Where nothing says where that is, an atlas tells: a few exposures
    are placed in it.

    Raises CatalogueError where no catalogue serves, NoFieldError without a position.
    """
    position = position_of(plan, exposures)
    if position is None:
        position = _placed_position(plan, exposures)
    if position is None:
        raise NoFieldError(
            "A cone search needs a position, and neither headers nor Intake give one: give the "
            "target's right ascension and declination in Intake, or a catalogue as a file or an "
            "atlas, in which the exposures are found wherever they are."
        )
    radius = _DEFAULT_CONE_DEG
    if plan.scale_arcsec_per_px and exposures:
        radius = 1.5 * float(np.hypot(*exposures[0].shape)) * plan.scale_arcsec_per_px / 3600
    return stars_about(plan.sources, *position, radius)


def _placed_position(plan: Plan, exposures: Sequence[Frame]) -> tuple[float, float] | None:
    """The middle of the first exposure, of some over the night, that is placed in an atlas; None
    without an atlas. Raises CatalogueError where none of them is.
    """
    atlas = next((s.place for s in plan.sources.stars if s.kind == "atlas"), None)
    if atlas is None:
        return None
    some = np.linspace(0, len(exposures) - 1, min(_TRIED, len(exposures))).round().astype(int)
    said = ""
    for index in some:
        frame = exposures[index]
        try:
            return place_anywhere(frame, Path(atlas), plan.scale_arcsec_per_px)
        except BeaconError as error:
            said = f"{frame.name}: {error}"
    raise CatalogueError(
        f"neither headers nor Intake say where the exposures are, and none of {some.size} could be "
        f"placed in the atlas; {said}. What would help: the target's position, or the scale in "
        "seconds of arc a pixel"
    )


def position_of(plan: Plan, exposures: Sequence[Frame]) -> tuple[float, float] | None:
    """Where the field is, in degrees: the target, else the middle of where the headers point."""
    if plan.target_ra_deg is not None and plan.target_dec_deg is not None:
        return plan.target_ra_deg, plan.target_dec_deg
    pointed = [
        (frame.facts.ra_deg.value, frame.facts.dec_deg.value)
        for frame in exposures
        if frame.facts.ra_deg and frame.facts.dec_deg
    ]
    if not pointed:
        return None
    ra, dec = np.array(pointed).T
    turned = np.radians(ra - ra[0])
    middle = ra[0] + np.degrees(np.median(np.arctan2(np.sin(turned), np.cos(turned))))
    return float(middle % 360.0), float(np.median(dec))


def find_target(plan: Plan, stars: StarTable) -> int | None:
    """The target's row in a catalogue, by its position or name; None where it is not there."""
    if plan.target_sure and plan.target_ra_deg is not None and plan.target_dec_deg is not None:
        ra, dec = stars.at_epoch(_epoch(plan))
        row, away = SkyIndex(ra, dec).nearest(plan.target_ra_deg, plan.target_dec_deg)
        if away < _MATCH_TARGET_DEG:
            return row
    if plan.target_name is not None:
        try:
            return stars.row(plan.target_name)
        except BeaconError:
            return None
    return None


@dataclass(frozen=True)
class Bands:
    """The catalogue's band of each filter; ``without`` has words on filters that have none,
    ``nominal`` on those for which another band stands in.
    """

    of: dict[str, str]
    without: dict[str, str]
    nominal: dict[str, str]
    mixed: str = ""
    """Words on filters that look like a set for colour pictures."""

    @property
    def remarks(self) -> list[Remark]:
        """A remark on every filter without a band of its own."""
        found = [
            Remark(
                "intake",
                words,
                name,
                "its exposures have no magnitudes",
                "name the band that stands for this filter in Intake, or take another catalogue",
            )
            for name, words in self.without.items()
        ]
        found += [
            Remark(
                "intake",
                words,
                name,
                "the zero point is only nominal: a constant offset, up to some tenths of a "
                "magnitude, that differs from star to star with their colours",
                "take comparison stars of the target's colour, or name another band in Intake",
            )
            for name, words in self.nominal.items()
        ]
        if self.mixed:
            found.append(
                Remark(
                    "intake",
                    self.mixed,
                    "",
                    "magnitudes are off by tenths of a magnitude that differ with the stars' "
                    "colours",
                    "if they are, name the bands that stand for them in Intake",
                )
            )
        return found  # fmt: skip


def bands_of(exposures: Sequence[Frame], stars: StarTable, said: Mapping[str, str]) -> Bands:
    """The band of each filter of the exposures; ``said`` are the observer's, by filter."""
    bands, without, nominal = {}, {}, {}
    names = list(dict.fromkeys(frame.filter or "" for frame in exposures))
    known = ", ".join(stars.bands)
    for name in names:
        band = band_of(name, stars.bands, said)
        if band is None:
            words = f"the catalogue has no magnitudes in filter {name} (it has {known})"
            if name in said:
                words = f"the catalogue has no band {said[name]}, named for {name} (it has {known})"
            without[name] = words
            continue
        bands[name] = band
        own = BY_NAME.get(band_of_filter(name) or name)
        if (own is not None and own.name == band) or (
            own is not None and own.nearest == (band,) and own.system == CLEAR
        ):
            continue
        if name in said and said[name] == band and own is None:
            continue  # a filter that only the observer knows
        kind = f" ({own.system})" if own else ""
        nominal[name] = (
            f"filter {name}{kind} is measured against the catalogue's {band} "
            f"({BY_NAME[band].system if band in BY_NAME else 'as it is called there'})"
        )
    return Bands(bands, without, nominal, _mixed(names))


def _mixed(names: Sequence[str]) -> str:
    """Words where R or B stand beside filters for colour pictures, and may be such themselves."""
    pictures = [name for name in names if name in ("green", "red", "blue", "L")]
    bands = [name for name in names if name in ("R", "B")]
    if "green" not in pictures or not bands or "V" in names:
        return ""
    return (
        f"the filters {', '.join([*bands, *pictures])} look like a set for colour pictures: then "
        f"{' and '.join(bands)} would not be the standard bands of that name"
    )


def band_of(name: str, known: Collection[str], said: Mapping[str, str] | None = None) -> str | None:
    """The catalogue's band for a filter: the observer's word, else the filter's own band, else the
    one that comes nearest (``core.bands``); None where there is none.
    """
    for filter_said, band in (said or {}).items():
        if filter_name(filter_said) == filter_name(name):
            return band if band in known else None
    own = band_of_filter(name) or name
    return own if own in known else stand_in(own, known)
