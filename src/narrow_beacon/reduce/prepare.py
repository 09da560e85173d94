"""What a night needs before its exposures can be measured: bands, chains, probes, settings."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import Times, julian_year
from narrow_beacon.core.frames.sort import Frame
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Placement
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.calibrate import (
    ChainPlan,
    ChainReport,
    MasterFile,
    chain_name,
    plan_chain,
)
from narrow_beacon.reduce.context import Context, ExposureJob, GroupSettings
from narrow_beacon.reduce.curves import DEFAULT_STEP
from narrow_beacon.reduce.field import band_of
from narrow_beacon.reduce.kit import KitConstants
from narrow_beacon.reduce.tasks import FIRST_GUESS_FWHM_PX, Quality

EXPOSURES_PER_TASK = 5
_PROBES = 3
_CHAIN_EXAMPLES = 5


def target_place(stars: StarTable, target: int, mid_utc: Sequence[datetime]) -> tuple[float, float]:
    """Right ascension and declination in degrees of the target in the middle of the exposures."""
    year = julian_year(mid_utc[len(mid_utc) // 2]) if mid_utc else 2000.0
    ra, dec = stars.at_epoch(year)
    return float(ra[target]), float(dec[target])


def bands_of(exposures: Sequence[Frame], stars: StarTable) -> tuple[dict[str, str], dict[str, str]]:
    """The catalogue's band of each filter, and words on the filters that have none."""
    bands, without = {}, {}
    for name in dict.fromkeys(frame.filter or "" for frame in exposures):
        band = band_of(name, stars)
        if band is not None:
            bands[name] = band
        else:
            known = ", ".join(stars.bands)
            without[name] = f"the catalogue has no magnitudes in filter {name} (it has {known})"
    return bands, without


def chain_calls(
    exposures: Sequence[Frame],
    masters: Sequence[MasterFile],
    folder: Path,
    picks: Mapping[str, Mapping[str, str]] | None = None,
) -> list[tuple[ChainPlan, Sequence[MasterFile], list[Frame], Path]]:
    """The arguments of ``build_chain`` for every kind of exposure; planes go below ``folder``.

    ``picks`` are the observer's by the chain's name, as ``plan_chain`` takes them.
    """
    by_name: dict[str, list[Frame]] = defaultdict(list)
    for frame in exposures:
        by_name[chain_name(frame)].append(frame)
    facts = [master.facts for master in masters]
    calls = []
    for number, (name, frames) in enumerate(by_name.items()):
        middle = len(frames) // 2
        reach = _CHAIN_EXAMPLES // 2
        examples = frames[max(0, middle - reach) : middle + reach + 1]
        chain = plan_chain(name, frames[0], facts, (picks or {}).get(name))
        calls.append((chain, masters, examples, folder / f"chain-{number}"))
    return calls


def make_context(
    plan: Plan,
    stars: StarTable,
    target: int,
    bands: dict[str, str],
    exposures: Sequence[Frame],
    chains: dict[str, ChainReport],
    kit: KitConstants,
) -> Context:
    """What all tasks share, before the probes."""
    mids = [frame.mid_utc for frame in exposures if frame.mid_utc]
    ra, dec = target_place(stars, target, mids)
    return Context(
        stars=stars,
        year=julian_year(mids[len(mids) // 2]),
        bands=bands,
        cameras=kit.cameras(chains),
        linear_limit_adu=kit.linear_limit_adu(),
        target_ra_deg=ra,
        target_dec_deg=dec,
        scale_arcsec_per_px=plan.scale_arcsec_per_px,
        chains={name: chain.folder for name, chain in chains.items()},
        groups={},
    )


def jobs_of(exposures: Sequence[Frame], bands: dict[str, str], times: Times) -> list[ExposureJob]:
    """One job for every exposure whose filter has a band."""
    return [
        ExposureJob(i, frame, chain_name(frame), group_name(frame), float(times.airmass[i]))
        for i, frame in enumerate(exposures)
        if (frame.filter or "") in bands
    ]


def group_name(frame: Frame) -> str:
    """A night in one filter: exposures that share star width and radii."""
    return f"{frame.night} {frame.filter}"


def probe_picks(jobs: Sequence[ExposureJob]) -> list[ExposureJob]:
    """A few exposures of each group to learn its star width and a reference solution from."""
    picks = []
    for members in _by_group(jobs).values():
        at = np.unique(np.linspace(0, len(members) - 1, _PROBES + 2).round().astype(int)[1:-1])
        picks += [members[i] for i in at]
    return picks


def settings_of(
    plan: Plan,
    picks: Sequence[ExposureJob],
    probes: Sequence[tuple[Quality | None, Placement | None]],
) -> dict[str, GroupSettings]:
    """Star width, reference solution and radii of every group, from its probes."""
    settings = {}
    for name in dict.fromkeys(job.group for job in picks):
        own = [
            (quality, placement)
            for job, (quality, placement) in zip(picks, probes, strict=True)
            if job.group == name and quality is not None and placement is not None
        ]
        widths = [quality.fwhm_px for quality, _ in own if np.isfinite(quality.fwhm_px)]
        fwhm = float(np.median(widths)) if widths else FIRST_GUESS_FWHM_PX
        best = max(own, key=lambda pair: pair[1].matched, default=None)
        settings[name] = _settings(plan, fwhm, best[1].solution if best else None)
    return settings


def runs_of(jobs: Sequence[ExposureJob]) -> list[list[ExposureJob]]:
    """The jobs in tasks of several consecutive exposures of one group."""
    return [
        members[i : i + EXPOSURES_PER_TASK]
        for members in _by_group(jobs).values()
        for i in range(0, len(members), EXPOSURES_PER_TASK)
    ]


def fixed_step(plan: Plan) -> int | None:
    """The step of the radius where the plan fixes it."""
    return DEFAULT_STEP if plan.radius.pixels or plan.radius.widths else None


def _by_group(jobs: Sequence[ExposureJob]) -> dict[str, list[ExposureJob]]:
    groups: dict[str, list[ExposureJob]] = defaultdict(list)
    for job in jobs:
        groups[job.group].append(job)
    return groups


def _settings(plan: Plan, fwhm: float, reference: Solution | None) -> GroupSettings:
    radii = np.array(RADII_FWHM) * fwhm
    step = fixed_step(plan)
    if plan.radius.pixels is not None:
        # Keep the set of radii about the one that was asked for.
        radii = np.array(RADII_FWHM) / RADII_FWHM[DEFAULT_STEP] * plan.radius.pixels
    elif plan.radius.widths is not None and step is not None:
        radii = np.array(RADII_FWHM) / RADII_FWHM[step] * plan.radius.widths * fwhm
    inner, outer = plan.annulus
    if not plan.annulus_in_pixels:
        inner, outer = inner * fwhm, outer * fwhm
    follow = plan.radius.widths is not None
    return GroupSettings(fwhm, reference, tuple(radii.tolist()), follow, (inner, outer))
