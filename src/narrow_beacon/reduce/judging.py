"""Exposures judged by their looks once they are measured: what spoils them, the observer's limits,
and flats that lean.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.curve.tilt import Tilt, fit_tilt
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.prepare import Prepared
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import (
    LIGHT_STEP,
    Moments,
    census_lights,
    evidence_of,
    said_aside,
    spoiled_looks,
    values_of,
)


@dataclass(frozen=True)
class Judgement:
    """What exposures look like, by index: spoiled and why, beyond the observer's limits, kept
    whatever speaks against them, and what shows of it.
    """

    spoiled: dict[int, str]
    limited: dict[int, str]
    keep: frozenset[int]
    evidence: dict[int, dict[str, object]]
    tilts: dict[str, Tilt]
    """Of the flats of groups of which some lean."""


def judge(ready: Prepared, results: Sequence[ExposureResult], measured: Measured) -> Judgement:
    """Judge some measured exposures by their looks, each within its night, filter and kit."""
    vetting, times = ready.plan.vetting, ready.times
    by_index = {job.index: job for job in ready.jobs}
    groups: dict[str, list[ExposureResult]] = defaultdict(list)
    for result in results:
        if measured.measured(result.index) and result.quality is not None:
            groups[by_index[result.index].group].append(result)
    spoiled: dict[int, str] = {}
    limited: dict[int, str] = {}
    evidence: dict[int, dict[str, object]] = {}
    tilts: dict[str, Tilt] = {}
    for group, own in groups.items():
        indices = [result.index for result in own]
        moments = Moments(times.jd_utc[indices], times.airmass[indices], ready.plan.site)
        seconds = np.array([by_index[index].frame.exposure_s for index in indices])
        shape = next(one.placement.solution.shape for one in own if one.placement is not None)
        seen = measured.seen(indices, LIGHT_STEP)
        lights = census_lights(seen, shape, moments.airmass, seconds)
        qualities = [result.quality for result in own if result.quality is not None]
        spoiled |= spoiled_looks(indices, qualities, lights, moments, vetting.rules)
        clear = [index not in spoiled for index in indices]
        tilt = fit_tilt(
            seen.counts_adu[clear], seen.uncertainty_adu[clear], seen.x_px[clear],
            seen.y_px[clear], shape,
        )  # fmt: skip
        if tilt is not None:
            tilts[group] = tilt
        for at, index in enumerate(indices):
            frame = by_index[index].frame
            evidence[index] = evidence_of(lights, at)
            values = values_of(
                qualities[at],
                frame.source.step,
                float(lights.share[at]),
                float(moments.airmass[at]),
            )
            words = said_aside(vetting, frame.name, values, frame.filter or "", frame.night)
            if words:
                limited[index] = words
    keep = frozenset(job.index for job in ready.jobs if job.frame.name in vetting.keep)
    return Judgement(spoiled, limited, keep, evidence, tilts)
