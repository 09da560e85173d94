"""What a night needs before its exposures can be measured: field, bands, constants, groups."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np

from narrow_beacon.core.catalogue.sky_index import separation_deg
from narrow_beacon.core.catalogue.table import UNKNOWN_UNCERTAINTY_MAG, StarTable
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.time import Times, exposure_times, julian_year
from narrow_beacon.core.frames.frame import Frame, SortedNight
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.stars.detect import FIRST_GUESS_FWHM_PX
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.context import (
    Context,
    ExposureJob,
    GroupSettings,
    Nudges,
    Probed,
    Strangers,
)
from narrow_beacon.reduce.curves import DEFAULT_STEP
from narrow_beacon.reduce.field import Bands, Field, bands_of, position_of
from narrow_beacon.reduce.kit import constants_of
from narrow_beacon.reduce.kit_frames import KitShown
from narrow_beacon.reduce.names import Spelled, chain_name, fingerprint, group_name, stars_print
from narrow_beacon.reduce.standing import clock_remarks, time_remarks
from narrow_beacon.reduce.tasks import Probe

EXPOSURES_PER_TASK = 5
_PROBES = 3
_NUDGE_FWHM = 0.15
"""Probes that agree less well on a star's place say nothing of it."""
_ELSEWHERE_DEG, _MOST_HOURS, _SOME_STARS = 3.0, 24.0, 5
RING_GAP = 1.02
"""Inner edge of the ring over the largest radius, at the least."""


@dataclass(frozen=True)
class Prepared:
    """Everything that placing and measuring need. ``prints`` name the planes of each chain."""

    plan: Plan
    night: SortedNight
    field: Field
    bands: Bands
    chains: Mapping[str, ChainReport]
    prints: Mapping[str, str]
    context: Context
    jobs: tuple[ExposureJob, ...]
    constants: dict[str, str]
    remarks: tuple[Remark, ...]
    known_targets: tuple[int, ...] = ()
    """Rows of all targets, where this is about one of them alone."""

    @property
    def targets(self) -> tuple[int, ...]:
        """Rows of all targets of the field."""
        return self.known_targets or self.field.targets

    @property
    def exposures(self) -> Sequence[Frame]:
        """Exposures in order of time."""
        return self.night.exposures

    @property
    def times(self) -> Times:
        """Times and airmass of the exposures for the target, or for the middle of the field."""
        mids = [frame.mid_utc for frame in self.exposures if frame.mid_utc]
        target = self.field.target
        if target is not None:
            position = target_place(self.field.stars, target)
        else:
            position = position_of(self.plan, self.exposures) or (0.0, 0.0)
        return exposure_times(mids, *position, self.plan.site)


def prepare(
    plan: Plan,
    night: SortedNight,
    field: Field,
    chains: Mapping[str, ChainReport],
    prints: Mapping[str, str],
    shown: Mapping[str, KitShown],
) -> Prepared:
    """Bands, constants and jobs of a night with at least one exposure; ``shown`` is what the frames
    of each kit and setting show.
    """
    bands = bands_of(night.exposures, field.stars, plan.bands)
    constants = constants_of(plan, plan.site, night.exposures, chains, shown)
    plain = field.bare or field.stars
    context = Context(
        stars=plain,
        stars_print=stars_print(plain),
        bands=bands.of,
        chains=constants.uses,
        hint_deg=position_of(plan, night.exposures),
        groups={},
    )
    return Prepared(
        plan, night, field, bands, chains, prints, context, tuple(_jobs(night.exposures, bands)),
        constants.words,
        (
            *field.remarks, *bands.remarks, *_assumed(field.stars, bands), *constants.remarks,
            *_elsewhere(field.stars, night.exposures),
            *time_remarks(night.exposures),
            *clock_remarks(night.exposures, context.hint_deg, plan.site),
        ),
    )  # fmt: skip


def _elsewhere(stars: StarTable, exposures: Sequence[Frame]) -> list[Remark]:
    """Words where the headers point to a part of the sky that the catalogue does not have."""
    said = [(f.facts.ra_deg.value, f.facts.dec_deg.value) for f in exposures
            if f.facts.ra_deg and f.facts.dec_deg]  # fmt: skip
    if not said or len(stars) < _SOME_STARS:
        return []
    ra, dec = said[len(said) // 2]

    def nearest_deg(times: float) -> float:
        """Of some stars; the target may be one of them, where its place is given."""
        away = separation_deg(times * stars.ra_deg, stars.dec_deg, ra, dec)
        return float(np.partition(away, _SOME_STARS - 1)[_SOME_STARS - 1])

    away = nearest_deg(1.0)
    if away < _ELSEWHERE_DEG:
        return []
    words = f"the nearest stars of the catalogue are {away:.0f}° from where the headers point"
    remedy = "take the catalogue of this field; where the headers are wrong, nothing need be done"
    if np.median(stars.ra_deg) <= _MOST_HOURS and nearest_deg(15.0) < _ELSEWHERE_DEG:
        words += "; if its right ascensions are hours, not degrees, it is there"
        remedy = "write the unit, hour, into the catalogue's column, or degrees"
    return [Remark("place", words, "", "no exposure can be placed if they are right", remedy)]


def _assumed(stars: StarTable, bands: Bands) -> list[Remark]:
    """Words where the catalogue does not say how well it knows its magnitudes."""
    silent = [
        band
        for band in dict.fromkeys(bands.of.values())
        if np.all(stars.bands[band].uncertainty == UNKNOWN_UNCERTAINTY_MAG)
    ]
    if not silent:
        return []
    return [
        Remark(
            "cast",
            f"the catalogue does not say how sure its magnitudes in {', '.join(silent)} are: "
            f"{1000 * UNKNOWN_UNCERTAINTY_MAG:.0f} mmag are assumed",
            matters="the common offset of the curve, and which comparison stars are preferred",
            remedy="take a catalogue with uncertainties",
        )
    ]


def target_place(stars: StarTable, target: int) -> tuple[float, float]:
    """Right ascension and declination in degrees of the target, as its catalogue gives them: its
    proper motion over years changes light times by hundredths of a second at the most.
    """
    return float(stars.ra_deg[target]), float(stars.dec_deg[target])


def _jobs(exposures: Sequence[Frame], bands: Bands) -> list[ExposureJob]:
    """One job for every exposure whose filter has a band."""
    return [
        ExposureJob(i, frame, chain_name(frame), group_name(frame), _year(frame.night))
        for i, frame in enumerate(exposures)
        if (frame.filter or "") in bands.of
    ]


def _year(night: str) -> float:
    """The Julian year of a night: whatever else is measured, its stars stand where they stood."""
    return julian_year(datetime.fromisoformat(night)) if night else 2000.0


def probe_picks(jobs: Sequence[ExposureJob], *, live: bool = False) -> dict[str, list[ExposureJob]]:
    """A few exposures of each group to learn its star width and a reference solution from; while
    more are to come (``live``) from the first ones, chosen anew whenever there are twice as many,
    since all are measured again then.
    """
    picks = {}
    for name, members in by_group(jobs).items():
        if live:
            members = members[: 1 << (len(members).bit_length() - 1)]
        at = np.unique(np.linspace(0, len(members) - 1, _PROBES + 2).round().astype(int)[1:-1])
        picks[name] = [members[i] for i in at]
    return picks


def probe_print(ready: Prepared, picks: Sequence[ExposureJob]) -> str:
    """The name of what a group's probes say."""
    return fingerprint("probe", [_seen_print(ready, job) for job in picks])


def probed_of(probes: Sequence[Probe | None]) -> Probed:
    """Star width, reference solution and places of bright stars of a group, from its probes."""
    own = [probe for probe in probes if probe is not None]
    widths = [probe.quality.fwhm_px for probe in own if np.isfinite(probe.quality.fwhm_px)]
    fwhm = float(np.median(widths)) if widths else FIRST_GUESS_FWHM_PX
    if not own:
        return Probed(fwhm, None)
    best = max(own, key=lambda probe: probe.placement.matched)
    reach = _NUDGE_FWHM * fwhm * best.placement.solution.scale_arcsec_per_px
    nudges = _joined([probe.nudges for probe in own], reach)
    misplaced = [probe.misplaced for probe in own]
    return Probed(
        fwhm, best.placement.solution, nudges, misplaced[0] if None not in misplaced else None,
        _seen_twice([probe.strangers for probe in own], reach / 3600.0),
    )  # fmt: skip


def _seen_twice(strangers: Sequence[Strangers], reach_deg: float) -> Strangers:
    """Those of the first probe that another one has too, or of the only one that there is."""
    first, *others = strangers
    if not others or not first.ra_deg:
        return first
    ra, dec = np.array(first.ra_deg), np.array(first.dec_deg)
    again = np.zeros(ra.size, bool)
    for other in others:
        if other.ra_deg:
            away = separation_deg(
                ra[:, None], dec[:, None], np.array(other.ra_deg)[None, :],
                np.array(other.dec_deg)[None, :],
            )  # fmt: skip
            again |= away.min(axis=1) < reach_deg
    kept = np.flatnonzero(again)
    return Strangers(
        tuple(ra[kept].tolist()), tuple(dec[kept].tolist()),
        tuple(np.array(first.magnitude)[kept].tolist()),
        tuple(sorted(set(first.vacant).intersection(*(other.vacant for other in others)))),
    )  # fmt: skip


def _joined(nudges: Sequence[Nudges], reach_arcsec: float) -> Nudges:
    """Means of the probes where at least two agree, or of the only one that there is."""
    found: dict[int, list[tuple[float, float]]] = defaultdict(list)
    for some in nudges:
        for row, east, north in zip(some.rows, some.east_arcsec, some.north_arcsec, strict=True):
            found[row].append((east, north))
    kept = {}
    for row in sorted(found):
        places = np.array(found[row])
        if len(places) >= min(2, len(nudges)) and np.ptp(places, axis=0).max() < reach_arcsec:
            kept[row] = places.mean(axis=0).tolist()
    return Nudges(
        tuple(kept), tuple(east for east, _ in kept.values()),
        tuple(north for _, north in kept.values()),
    )  # fmt: skip


def with_groups(ready: Prepared, probed: Mapping[str, Probed]) -> Prepared:
    """With the settings of all groups, and each exposure's airmass at its group's middle."""
    members_of = by_group(ready.jobs)
    groups = {
        name: settings_of(ready.plan, p, members_of[name][0].frame.source.step)
        for name, p in probed.items()
    }
    airmass: dict[int, float] = {}
    for name, members in members_of.items():
        airmass |= _airmass(members, groups[name].reference, ready.plan.site)
    jobs = tuple(replace(job, airmass=airmass.get(job.index, float("nan"))) for job in ready.jobs)
    return replace(ready, jobs=jobs, context=replace(ready.context, groups=groups))


def _airmass(
    members: Sequence[ExposureJob], reference: Solution | None, site: Site | None
) -> dict[int, float]:
    """Airmass by exposure in the middle of the field, whatever star is the target."""
    facts = members[0].frame.facts
    if reference is not None:
        position = reference.centre
    elif facts.ra_deg and facts.dec_deg:
        position = facts.ra_deg.value, facts.dec_deg.value
    else:
        return {}
    known = [job for job in members if job.frame.mid_utc]
    mids = [job.frame.mid_utc for job in known if job.frame.mid_utc]
    times = exposure_times(mids, *position, site)
    return {job.index: float(value) for job, value in zip(known, times.airmass, strict=True)}


def runs_of(jobs: Sequence[ExposureJob]) -> list[tuple[ExposureJob, ...]]:
    """The jobs in tasks of several consecutive exposures of one group.

    An exposure is placed from the one before it in its task, so tasks stay whole.
    """
    return [
        tuple(members[i : i + EXPOSURES_PER_TASK])
        for members in by_group(jobs).values()
        for i in range(0, len(members), EXPOSURES_PER_TASK)
    ]


@dataclass(frozen=True)
class ResultPrints:
    """Names of what an exposure's results are made of, by its index."""

    placed: dict[int, str]
    measured: dict[int, str]
    hint: str
    """Of what an exposure that could not be placed may be placed with another time."""


def result_prints(ready: Prepared) -> ResultPrints:
    """The names of all results of a prepared night with its groups."""
    placed: dict[int, str] = {}
    measured: dict[int, str] = {}
    spelled = {
        name: {word: Spelled(value) for word, value in group.probed.to_json().items()}
        for name, group in ready.context.groups.items()
    }
    for run in runs_of(ready.jobs):
        group = ready.context.groups[run[0].group]
        probed = spelled[run[0].group]
        before: list[str] = []
        for job in run:
            before.append(_seen_print(ready, job))
            placed[job.index] = fingerprint("placed", before, group.fwhm_px, probed["reference"])
            measured[job.index] = fingerprint(
                "census, neighbours off", placed[job.index], probed["nudges"], group.radii_px,
                group.radii_follow_width,
                group.annulus_px, ready.context.chains[job.chain].camera,
                ready.context.bands[job.frame.filter or ""], job.airmass,
            )  # fmt: skip
    return ResultPrints(placed, measured, fingerprint("hint", ready.context.hint_deg))


def _seen_print(ready: Prepared, job: ExposureJob) -> str:
    use = ready.context.chains[job.chain]
    facts = job.frame.facts
    return fingerprint(
        job.frame.sha256, job.frame.part, ready.prints[job.chain], use.linear_limit_adu,
        use.scale_arcsec_per_px, use.problem, ready.context.stars_print, job.year,
        job.frame.exposure_s, facts.ra_deg, facts.dec_deg, facts.scale_arcsec_per_px,
        facts.pixel_aspects,
    )  # fmt: skip


def fixed_step(plan: Plan, filter_name: str = "") -> int | None:
    """The step of the radius where the plan fixes it: its one radius, which the set is laid about,
    or for a filter one of the usual set.
    """
    if filter_name in plan.steps:
        return RADII_FWHM.index(plan.steps[filter_name])
    return DEFAULT_STEP if plan.radius.pixels or plan.radius.widths else None


def by_group(jobs: Sequence[ExposureJob]) -> dict[str, list[ExposureJob]]:
    """The jobs of each group, in order of time."""
    groups: dict[str, list[ExposureJob]] = defaultdict(list)
    for job in jobs:
        groups[job.group].append(job)
    return groups


def settings_of(plan: Plan, probed: Probed, sensor_px: int = 1) -> GroupSettings:
    """Radii and ring of a group, from its star width and what the plan says of them in pixels of
    the sensor, of which a channel's are ``sensor_px`` apart.
    """
    fwhm = probed.fwhm_px
    radii = np.array(RADII_FWHM) * fwhm
    step = fixed_step(plan)
    if plan.radius.pixels is not None:
        # Keep the set of radii about the one that was asked for.
        radii = np.array(RADII_FWHM) / RADII_FWHM[DEFAULT_STEP] * plan.radius.pixels / sensor_px
    elif plan.radius.widths is not None and step is not None:
        radii = np.array(RADII_FWHM) / RADII_FWHM[step] * plan.radius.widths * fwhm
    inner, outer = plan.annulus
    unit = 1.0 / sensor_px if plan.annulus_in_pixels else fwhm
    inner, outer = inner * unit, outer * unit
    # A star's own light is no sky: a ring that an aperture reaches into moves out.
    moved = max(0.0, RING_GAP * float(radii[-1]) - inner)
    ring = inner + moved, outer + moved
    return GroupSettings(probed, tuple(radii.tolist()), plan.radius.widths is not None, ring)
