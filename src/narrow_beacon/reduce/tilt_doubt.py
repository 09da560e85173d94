"""Remarks on flats that lean, by the stars that crossed the frame."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from narrow_beacon.core.correct.lean import LEAN, Lean
from narrow_beacon.core.curve.tilt import Tilt
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.prepare import Prepared

_LEAST_STEP_MAG = 0.002
FLAT_AT_STAKE = "the target steps"
"""In what a flat that leans may cost."""


def tilt_remarks(
    ready: Prepared, measured: Measured, curve: FilterCurve, tilts: Mapping[str, Tilt]
) -> list[Remark]:
    """Words on the groups of a curve whose flats lean, with what that makes of the target."""
    groups = {job.index: job.group for job in ready.jobs}
    chains = {job.index: job.chain for job in ready.jobs}
    remarks = []
    for group, tilt in tilts.items():
        own = [index for index in curve.indices if groups[index] == group]
        if not own:
            continue
        target, *beside = (
            tilt.at(*measured.where(row, own))
            for row in (curve.cast.target, *curve.cast.comparison)
        )
        off = target - np.nanmean(beside, axis=0)
        step = float(np.nanmax(off) - np.nanmin(off))
        chain = ready.chains.get(chains[own[0]])
        already = Lean.of(chain.lean) if chain and chain.lean else Lean(0.0, 0.0)
        lean = Lean(already.across_mag + tilt.across_mag, already.up_mag + tilt.up_mag)
        across = abs(tilt.across_mag) >= abs(tilt.up_mag)
        fainter = tilt.across_mag if across else tilt.up_mag
        sides = ("left", "right") if across else ("bottom", "top")
        one, other = sides if fainter > 0 else sides[::-1]
        remarks.append(
            Remark(
                "correct",
                f"the flat leans: {tilt.stars} stars that moved across the frame measure "
                f"{1000 * abs(fainter):.0f} ± {1000 * tilt.error_mag:.0f} mmag fainter at the "
                f"{other} edge than at the {one} one",
                group,
                f"{FLAT_AT_STAKE} by up to {1000 * step:.0f} mmag against its comparison stars "
                "where the field moved or turned; of other stars some seem to vary"
                if step >= _LEAST_STEP_MAG
                else "little for the target, about which its comparison stars lie; of other stars "
                "some seem to vary",
                f'straighten it by “lean” under Its masters in Correct, or {LEAN} = "{lean.text}" '
                "under the chain's masters in a plan, and measure again; take flats without stray "
                "light",
            )
        )
    return remarks
