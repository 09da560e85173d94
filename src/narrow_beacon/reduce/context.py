"""What every exposure of a reduction is measured with, on disk, read once by each worker."""

from __future__ import annotations

import pickle
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Ints
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.apply import Chain
from narrow_beacon.core.frames.sort import Frame
from narrow_beacon.core.measure.noise import CameraConstants
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Solver


@dataclass(frozen=True)
class ExposureJob:
    """One exposure to measure: its frame, chain and group, and its airmass."""

    index: int
    frame: Frame
    chain: str
    group: str
    airmass: float


@dataclass(frozen=True)
class GroupSettings:
    """What the probes of a group (a night in one filter) found, and its radii."""

    fwhm_px: float
    reference: Solution | None
    radii_px: tuple[float, ...]
    radii_follow_width: bool
    annulus_px: tuple[float, float]


@dataclass(frozen=True)
class Context:
    """Everything that the tasks of a reduction share."""

    stars: StarTable
    year: float
    bands: dict[str, str]
    cameras: dict[str, CameraConstants]
    """Camera constants by chain."""
    linear_limit_adu: float
    target_ra_deg: float
    target_dec_deg: float
    scale_arcsec_per_px: float | None
    chains: dict[str, str]
    """Folder of each chain's planes."""
    groups: dict[str, GroupSettings]

    def save(self, path: Path) -> None:
        """Write it where the workers will read it."""
        path.write_bytes(pickle.dumps(self))


@lru_cache(maxsize=2)
def load_context(path: str) -> Context:
    """The context at a path; read once in a process."""
    context: Context = pickle.loads(Path(path).read_bytes())
    return context


@lru_cache(maxsize=2)
def solver_of(path: str) -> tuple[Solver, Ints]:
    """The solver of a context's catalogue, and table rows in the solver's order."""
    context = load_context(path)
    order = context.stars.brightness_order()
    ra, dec = context.stars.at_epoch(context.year)
    return Solver(ra[order], dec[order]), order


def save_chain(chain: Chain, folder: Path) -> None:
    """Write a chain's planes; workers map them into memory and share the pages."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("offset_adu", "gain", "defects", "repairs"):
        np.save(folder / f"{name}.npy", getattr(chain, name))


@lru_cache(maxsize=4)
def load_chain(folder: str) -> Chain:
    """A chain written by ``save_chain``."""
    names = ("offset_adu", "gain", "defects", "repairs")
    # Copy-on-write maps are shared in memory and have the type that the kernels expect.
    return Chain(*(np.load(Path(folder) / f"{name}.npy", mmap_mode="c") for name in names))
