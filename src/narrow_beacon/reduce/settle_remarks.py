"""What is said of measured exposures, their curves and their cast."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import timedelta

import numpy as np

from narrow_beacon.core.catalogue.sky_index import separation_deg
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Dropped
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.ensemble import LEAST_TESTED
from narrow_beacon.core.curve.field_stars import exposures_of_field
from narrow_beacon.core.curve.time import julian_year
from narrow_beacon.core.measure.neighbours import ONE_STAR_FWHM
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.prepare import Prepared
from narrow_beacon.reduce.tasks import ExposureResult

_BESIDE_MAG = 0.005
_MOST_FAINTER_MAG = 5.0
"""Of a hundredth of the light nothing need be said."""
_MOVED_ARCSEC, _SAID_ARCSEC, _LIKE_MAG = 30.0, 0.3, 1.0
_NOISY = 1.2
_SUNKEN, _SUNKEN_ADU = 5.0, 20.0
_UNEVEN, _LEAST_UNEVEN = 0.012, 5
"""Corners over the middle on so many exposures that are said; no clear sky does that."""
_OF_NOISE = 0.1
"""Less than so much of a pixel's noise a dark may leave: of a faint sky that is percents."""


def untested_remarks(curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where too few comparison stars take part to test one another."""
    rows = curve.cast.comparison
    if len(rows) >= LEAST_TESTED:
        return []
    names = " and ".join(stars.names[row] for row in rows)
    words = f"only {len(rows)} comparison star{'s' if len(rows) > 1 else ''} ({names})"
    if curve.ensemble.tested:
        wander = float(np.nanmedian(curve.ensemble.zero_point_uncertainty))
        words += f", tested against the other stars of the field: zero points to {wander:.4f} mag"
        matters = "the uncertainties hold what the field shows"
    else:
        words += (
            ": nothing tells whether it varies"
            if len(rows) == 1
            else (": nothing tells which of them varies, if one does")
        )
        matters = "the uncertainties hold noise alone; a comparison star's own changes come on top"
    return [Remark("cast", words, curve.filter, matters, "take three or more, ten are better")]


def beside_remarks(curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where another star's light falls into the target's or a check star's aperture."""
    remarks = []
    checks = zip(curve.cast.checks, curve.checks, strict=True)
    for row, star in ((curve.cast.target, curve.target), *checks):
        light = float(np.median(star.neighbour_mag)) + float(np.median(star.unseen_mag))
        if abs(light) < _BESIDE_MAG:
            continue
        what = "an unseen companion's" if np.any(star.unseen_mag) else "neighbours'"
        change = float(np.std(star.neighbour_mag))
        remarks.append(
            Remark(
                "measure",
                f"{what} light in the aperture of {stars.names[row]} that is not taken off: about "
                f"{1000 * light:.0f} mmag, changing by {1000 * change:.1f} mmag over the exposures",
                curve.filter,
                f"magnitudes may be too {'bright' if light > 0 else 'faint'} by "
                f"{1000 * abs(light):.0f} mmag",
                "take a smaller radius, or report the magnitudes as those of all of them together",
            )
        )
    return remarks


def missing_check_remarks(curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where a check star is on none of the exposures."""
    return [
        Remark(
            "cast", f"check star {stars.names[role]}: on no exposure in {curve.filter}",
            curve.filter, "nothing tells whether these nights are any good",
            "choose a check star that is on all exposures",
        )
        for role in curve.cast.checks
        if curve.census.column(role) is None
    ]  # fmt: skip


def one_star_remarks(ready: Prepared, curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where the catalogue has another star so near to the target or a check star that both
    are measured as one.
    """
    widths = [
        group.fwhm_px * group.reference.scale_arcsec_per_px / 3600.0
        for group in ready.context.groups.values()
        if group.reference is not None
    ]
    moment = next((frame.mid_utc for frame in ready.exposures if frame.mid_utc), None)
    if not widths or moment is None:
        return []
    ra, dec = stars.at_epoch(julian_year(moment))
    magnitude = stars.bands[curve.band].magnitude
    remarks = []
    for row in (curve.cast.target, *curve.cast.checks):
        away = separation_deg(ra, dec, ra[row], dec[row])
        away[row] = np.inf
        for other in np.flatnonzero(away < ONE_STAR_FWHM * max(widths)):
            fainter = float(magnitude[other] - magnitude[row])
            if fainter > _MOST_FAINTER_MAG:
                continue
            both = float(2.5 * np.log10(1.0 + 10.0 ** (-0.4 * fainter)))
            brings = f" by {1000.0 * both:.0f} mmag" if np.isfinite(both) else ""
            remarks.append(
                Remark(
                    "cast",
                    f"the catalogue has {stars.names[other]} {3600.0 * away[other]:.1f}″ from "
                    f"{stars.names[row]}: both are measured as one star",
                    curve.filter,
                    f"where it is another star, and not the same once more, magnitudes are too "
                    f"bright{brings}",
                    "report the magnitudes as those of both together",
                )
            )
    return remarks


def moved_remarks(ready: Prepared, target: int, stars: StarTable) -> list[Remark]:
    """Words where nothing is in the target's place on any of the probes, and a star as bright as it
    that the catalogue lacks stands near.
    """
    moment = next((frame.mid_utc for frame in ready.exposures if frame.mid_utc), None)
    groups = [(name, group.probed) for name, group in ready.context.groups.items()]
    if moment is None or not all(target in probed.strangers.vacant for _, probed in groups):
        return []
    ra, dec = (float(values[target]) for values in stars.at_epoch(julian_year(moment)))
    bands = {job.group: ready.context.bands[job.frame.filter or ""] for job in ready.jobs}
    for name, probed in groups:
        strange = probed.strangers
        away = 3600.0 * separation_deg(np.array(strange.ra_deg), np.array(strange.dec_deg), ra, dec)
        fainter = np.array(strange.magnitude) - stars.bands[bands[name]].magnitude[target]
        # Of one whose brightness is not known every star may be it.
        like = (away < _MOVED_ARCSEC) & ~(np.abs(fainter) > _LIKE_MAG)
        if not like.any():
            continue
        at = int(np.argmin(np.where(like, away, np.inf)))
        north = 3600.0 * (strange.dec_deg[at] - dec)
        east = 3600.0 * ((strange.ra_deg[at] - ra + 180.0) % 360.0 - 180.0)
        east *= float(np.cos(np.radians(dec)))
        ways = [
            f"{abs(by):.1f}″ {way[by < 0]}"
            for by, way in ((north, ("north", "south")), (east, ("east", "west")))
            if abs(by) >= _SAID_ARCSEC
        ]
        return [
            Remark(
                "cast",
                f"{stars.names[target]} is not seen in its place; {' and '.join(ways)} of it "
                f"stands a star of {strange.magnitude[at]:.1f} mag that the catalogue lacks",
                bands[name],
                "where that is it, its points are another's light or none",
                "give the target another name and this place in Intake, "
                f"{strange.ra_deg[at]:.5f}° {strange.dec_deg[at]:+.5f}°".replace("-", "−")
                + ", or the epoch of the catalogue's positions",
            )
        ]
    return []


def noisy_sky_remarks(
    ready: Prepared, results: Sequence[ExposureResult], measured: Measured
) -> list[Remark]:
    """Words on groups whose sky is noisier than gain, read noise and level let expect."""
    groups = {job.index: job.group for job in ready.jobs}
    found: dict[str, list[float]] = defaultdict(list)
    for result in results:
        if measured.measured(result.index):
            found[groups[result.index]].append(measured.noise_ratio(result.index))
    return [
        Remark(
            "measure",
            f"the sky is {ratio:.1f} times noisier than gain, read noise and its level say",
            group,
            "the uncertainties are widened to what the sky shows",
            "check gain and read noise in Intake, under Kit; else a pattern or a gradient is on "
            "the exposures",
        )
        for group, ratios in found.items()
        if (ratio := float(np.median(ratios))) > _NOISY
    ]  # fmt: skip


def sunken_sky_remarks(ready: Prepared, results: Sequence[ExposureResult]) -> list[Remark]:
    """Words on groups of which exposures have a sky below zero by more than its noise."""
    groups = {job.index: job.group for job in ready.jobs}
    found: dict[str, list[float]] = defaultdict(list)
    for result in results:
        seen = result.quality
        if seen and seen.sky_adu_per_px < -max(_SUNKEN * seen.noise_adu, _SUNKEN_ADU):
            found[groups[result.index]].append(seen.sky_adu_per_px)
    return [
        Remark(
            "correct",
            f"the sky of {counted(len(levels), 'exposure')} is below zero, at "
            f"{float(np.median(levels)):.0f} ADU",
            group,
            "what was taken off is brighter than they are: with the wrong dark or bias hot pixels "
            "stay, and the flat leaves its pattern",
            "look at the chain in Correct: were gain, offset or length others?",
        )
        for group, levels in found.items()
    ]  # fmt: skip


def uneven_sky_remarks(ready: Prepared, results: Sequence[ExposureResult]) -> list[Remark]:
    """Words on groups whose flat leaves the corners brighter or darker than the sky can be."""
    jobs = {job.index: job for job in ready.jobs}
    found: dict[str, list[float]] = defaultdict(list)
    for result in results:
        seen = result.quality
        if seen is None or not np.isfinite(seen.corners):
            continue
        clear = abs(seen.corners) * seen.sky_adu_per_px > _OF_NOISE * seen.noise_adu
        found[jobs[result.index].group].append(seen.corners if clear else 0.0)
    chains = {job.group: ready.chains.get(job.chain) for job in ready.jobs}
    remarks = []
    for group, corners in found.items():
        chain = chains[group]
        flat = chain is not None and any(s.kind == "flat" for s in chain.stations)
        usual = float(np.median(corners))
        spread = 1.4826 * float(np.median(np.abs(np.array(corners) - usual)))
        error = spread / np.sqrt(len(corners))
        if not flat or len(corners) < _LEAST_UNEVEN or abs(usual) < max(_UNEVEN, 5 * error):
            continue
        side, kind = ("brighter", "over") if usual > 0 else ("darker", "under")
        remarks.append(
            Remark(
                "correct",
                f"the corners of corrected exposures are {100 * abs(usual):.1f}% {side} than the "
                f"middle: {kind}-corrected, or light in the flats that is not the sky's",
                group,
                f"about {1086 * abs(usual):.0f} mmag between a star in the middle and one in a "
                "corner",
                "keep the target and its comparison stars near one another; take flats without "
                "stray light",
            )
        )
    return remarks


def _sampled_remarks(curve: FilterCurve) -> list[Remark]:
    """That the field of a long campaign is told by some of its exposures."""
    count = len(curve.indices)
    told = exposures_of_field(count).size
    if told == count:
        return []
    return [
        Remark(
            "curve",
            f"the field's stars are told by {told} of {count} exposures, over all nights alike",
            curve.filter,
            f"their means and scatters are {(count / told) ** 0.5:.1f} times less sure than by all",
            "nothing: the target's points are all there; split the campaign to use every exposure",
        )
    ]


def doubts_remarks(curve: FilterCurve) -> list[Remark]:
    """Words on the points of a curve that are not simply good."""
    remarks = _sampled_remarks(curve)
    doubtful, unseen = curve.target.doubtful, np.isfinite(curve.target.limit_mag)
    if doubtful.any():
        of_all = f"of {counted(doubtful.size, 'point')} "
        remarks.append(
            Remark(
                "curve", f"{counted(doubtful.sum(), of_all + 'is', of_all + 'are')} doubtful",
                curve.filter,
                "each may be off by more than its uncertainty; its flags say why and how much",
                "the report leaves it out; take doubtful ones too in Report, or by doubtful = true "
                "under [output] in a plan",
            )
        )  # fmt: skip
    if unseen.any():
        remarks.append(
            Remark(
                "curve", f"the target was not seen on {unseen.sum()} of "
                f"{counted(unseen.size, 'exposure')}",
                curve.filter, "they have a limit in place of a magnitude", "expose longer",
            )
        )  # fmt: skip
    return remarks


def dropped_remark(dropped: Dropped, curve: FilterCurve) -> Remark:
    return Remark(
        "cast",
        f"comparison star {dropped.name} dropped: {dropped.reason}",
        curve.filter,
        "none: it takes no part",
        "make it a comparison star again in Cast, if you know better",
    )


def wander_remarks(curve: FilterCurve) -> list[Remark]:
    """Words where most stars sit off the rest of the night for a while."""
    wander_mag = curve.cast.wander_mag
    if not wander_mag:
        return []
    return [
        Remark(
            "cast",
            f"most stars sit some {1000 * wander_mag:.0f} mmag off the rest of the night for a "
            "while, more than their noise: none was dropped for that",
            curve.filter,
            "slow changes of the target of that size may be the same",
            "take more flats, and guide so that stars stay on their pixels",
        )
    ]


_REFRACTIVITY = 2.9e-4
"""Of air at sea level, less 1."""
_SQUEEZED_PX = 1.0


def refraction_remarks(ready: Prepared, results: Sequence[ExposureResult]) -> list[Remark]:
    """Words where refraction squeezes a field towards the horizon by more than a pixel from corner
    to corner: by (n − 1)(sec² z − 1) more than along the horizon (Smart 1977, ch. 3).
    """
    airmasses = {job.index: job.airmass for job in ready.jobs}
    worst, at, share = 0.0, 0.0, 0.0
    for result in results:
        airmass = airmasses[result.index]
        if result.placement is None or not np.isfinite(airmass):
            continue
        squeezed = _REFRACTIVITY * (airmass**2 - 1.0)
        pixels = squeezed * float(np.hypot(*result.placement.solution.shape))
        if pixels > worst:
            worst, at, share = pixels, airmass, squeezed
    if worst < _SQUEEZED_PX:
        return []
    return [
        Remark(
            "place",
            f"at airmass {at:.1f} the air squeezes the field towards the horizon by "
            f"{100 * share:.2f}%, {worst:.1f} px from corner to corner",
            matters="nothing for positions: the solution takes it up",
        )
    ]


def bright_sky_remarks(reasons: Mapping[int, str], site: Site | None) -> list[Remark]:
    """Words where it cannot be told what made the sky bright."""
    count = sum(words.startswith("bright sky") for words in reasons.values())
    if not count or site is not None:
        return []
    return [
        Remark(
            "vet",
            f"{counted(count, 'exposure')} with a bright sky, and it is not known where Sun and "
            "Moon stood",
            matters="whether it was twilight, moonlight or a lamp is not told",
            remedy="give the site in Intake, or under [site] in a plan",
        )
    ]


def shared_light_remarks(ready: Prepared, curve: FilterCurve) -> list[Remark]:
    """Words where single exposures have points beside the combined ones that they went into."""
    frames = [ready.exposures[index] for index in curve.indices]
    spans = [
        (frame.mid_utc - half, frame.mid_utc + half)
        for frame in frames
        if frame.combined and frame.mid_utc
        for half in (timedelta(seconds=0.5 * (frame.facts.span_s or frame.exposure_s)),)
    ]
    single = [frame.mid_utc for frame in frames if not frame.combined and frame.mid_utc]
    if not any(first <= mid <= last for first, last in spans for mid in single):
        return []
    return [
        Remark(
            "curve",
            f"combined exposures in {curve.filter} have points beside single ones of the same time",
            curve.filter,
            "the same light counts twice where all are taken together",
            "set the single ones aside where the combined ones serve, or leave these out",
        )
    ]
