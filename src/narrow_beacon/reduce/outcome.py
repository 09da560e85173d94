"""What a reduction came to, as its outputs need it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from narrow_beacon.core.arrays import Floats
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
class Looks:
    """What rows say of the exposures themselves, by their index: the raw file's name, from one of
    their pixels to the next among the file's, star width and sky in the file's pixels (NaN
    unknown).
    """

    files: Sequence[str]
    steps: Sequence[int]
    fwhm_px: Floats
    sky_adu_per_px: Floats


class Told(Protocol):
    """What rows and reports of curves are told from: a whole Outcome, or what of it they need."""

    @property
    def plan(self) -> Plan: ...

    @property
    def stars(self) -> StarTable: ...

    @property
    def target(self) -> int | None: ...

    @property
    def times(self) -> Times: ...

    @property
    def curves(self) -> tuple[FilterCurve, ...]: ...

    @property
    def looks(self) -> Looks: ...

    @property
    def targets(self) -> Sequence[Told]:
        """Each target's own, the one in front first."""

    @property
    def every_curve(self) -> tuple[FilterCurve, ...]:
        """The curves of all targets."""


@dataclass(frozen=True)
class CurvesTold:
    """A target's curves with what their rows say."""

    plan: Plan
    stars: StarTable
    target: int | None
    times: Times
    curves: tuple[FilterCurve, ...]
    looks: Looks

    @property
    def targets(self) -> tuple[CurvesTold, ...]:
        """It alone."""
        return (self,)

    @property
    def every_curve(self) -> tuple[FilterCurve, ...]:
        """Its own."""
        return self.curves


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

    @cached_property
    def looks(self) -> Looks:
        """What is said of the exposures in rows."""
        frames = self.night.exposures
        seen = [
            self.results[at].quality if at in self.results else None for at in range(len(frames))
        ]
        return Looks(
            [frame.file for frame in frames], [frame.source.step for frame in frames],
            np.array([
                np.nan if quality is None else frame.source.step * quality.fwhm_px
                for frame, quality in zip(frames, seen, strict=True)
            ]),
            np.array([np.nan if q is None else q.sky_adu_per_px for q in seen]),
        )  # fmt: skip

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
