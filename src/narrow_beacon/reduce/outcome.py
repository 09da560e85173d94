"""What a reduction came to, as its outputs need it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import Times
from narrow_beacon.core.frames.frame import SortedNight
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.tasks import ExposureResult


@dataclass(frozen=True)
class Outcome:
    """Everything that ``write_outputs`` turns into files. ``target`` is None while unknown."""

    plan: Plan
    stars: StarTable
    target: int | None
    night: SortedNight
    masters: tuple[MasterFile, ...]
    chains: Mapping[str, ChainReport]
    times: Times
    results: Mapping[int, ExposureResult]
    curves: tuple[FilterCurve, ...]
    set_aside: Mapping[int, str]
    remarks: tuple[Remark, ...]
    constants: Mapping[str, str]
    beside: tuple[Outcome, ...] = ()
    """The same of the other targets in the field, which share all but cast, times and curves."""

    @property
    def targets(self) -> tuple[Outcome, ...]:
        """Each target's own, this one's first."""
        return (self, *self.beside)

    @property
    def every_curve(self) -> tuple[FilterCurve, ...]:
        """The curves of all targets."""
        return tuple(curve for one in self.targets for curve in one.curves)

    @property
    def measured(self) -> int:
        """The number of points with a magnitude."""
        return sum(int(np.isfinite(curve.target.magnitude).sum()) for curve in self.every_curve)
