"""What every exposure of a reduction is measured with, on disk, read once by each worker."""

from __future__ import annotations

import hashlib
import io
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.core.arrays import Ints
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.correct.apply import Chain
from narrow_beacon.core.correct.dark_place import Misplaced
from narrow_beacon.core.curve.time import places_at
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.measure.noise import CameraConstants
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Solver
from narrow_beacon.reduce.solutions import solution_from_json, solution_to_json

SECOND = "second"
"""The folder, in a chain's, of the planes for the other pixels of a colour that has two."""
_STAR_ARRAYS = ("ra_deg", "dec_deg", "pm_ra_mas_yr", "pm_dec_mas_yr", "known_variable")


@dataclass(frozen=True)
class ExposureJob:
    """One exposure to measure: its frame, chain and group, its airmass, and the Julian year of its
    night, at which the stars are taken.
    """

    index: int
    frame: Frame
    chain: str
    group: str
    year: float
    airmass: float = float("nan")


@dataclass(frozen=True)
class Nudges:
    """Where bright stars really stand, against where their catalogue's positions and the solutions
    put them: catalogue rows, ascending, and seconds of arc towards east and north. Kept the same
    for a group, so that a star is measured by one rule on all exposures, bright or faint.
    """

    rows: tuple[int, ...] = ()
    east_arcsec: tuple[float, ...] = ()
    north_arcsec: tuple[float, ...] = ()


@dataclass(frozen=True)
class Strangers:
    """Bright stars that the catalogue lacks: where they are, and how bright by its others; and the
    rows of those of its bright stars, or of unknown brightness, in whose place none was found.
    """

    ra_deg: tuple[float, ...] = ()
    dec_deg: tuple[float, ...] = ()
    magnitude: tuple[float, ...] = ()
    vacant: tuple[int, ...] = ()


@dataclass(frozen=True)
class Probed:
    """What the probes of a group found: its star width, a reference solution if any, and where its
    bright stars stand.
    """

    fwhm_px: float
    reference: Solution | None
    nudges: Nudges = field(default_factory=Nudges)
    misplaced: Misplaced | None = None
    """What speaks against the dark, on all of them that could tell."""
    strangers: Strangers = field(default_factory=Strangers)

    def to_json(self) -> dict[str, Any]:
        """Plain values of it."""
        solution = solution_to_json(self.reference) if self.reference else None
        return {
            "fwhm_px": self.fwhm_px, "reference": solution, "nudges": vars(self.nudges),
            "misplaced": vars(self.misplaced) if self.misplaced else None,
            "strangers": vars(self.strangers),
        }  # fmt: skip

    @classmethod
    def from_json(cls, values: Mapping[str, Any]) -> Probed:
        """What ``to_json`` gave."""
        reference = values["reference"]
        return cls(
            values["fwhm_px"], solution_from_json(reference) if reference else None,
            Nudges(**{name: tuple(some) for name, some in values.get("nudges", {}).items()}),
            Misplaced(**values["misplaced"]) if values.get("misplaced") else None,
            Strangers(**{name: tuple(v) for name, v in values.get("strangers", {}).items()}),
        )  # fmt: skip


@dataclass(frozen=True)
class GroupSettings:
    """What the probes of a group (a night in one filter) found, and its radii."""

    probed: Probed
    radii_px: tuple[float, ...]
    radii_follow_width: bool
    annulus_px: tuple[float, float]

    @property
    def fwhm_px(self) -> float:
        """The usual star width."""
        return self.probed.fwhm_px

    @property
    def reference(self) -> Solution | None:
        """A solution to start from."""
        return self.probed.reference


@dataclass(frozen=True)
class ChainUse:
    """What exposures of a chain are measured with; ``problem`` says why they can't be."""

    folder: str
    """Of the chain's planes."""
    camera: CameraConstants
    linear_limit_adu: float
    scale_arcsec_per_px: float | None
    problem: str = ""


@dataclass(frozen=True)
class ContextFile:
    """A context where workers read it: its file, which is named by its content, and the folders of
    its chains' planes by the chains' names. A task's arguments name all that it reads.
    """

    path: Path
    planes: tuple[tuple[str, Path], ...]


@dataclass(frozen=True)
class Context:
    """Everything that the tasks of a reduction share."""

    stars: StarTable
    stars_print: str
    bands: dict[str, str]
    chains: dict[str, ChainUse]
    hint_deg: tuple[float, float] | None
    """Where to look first for exposures whose headers give no position."""
    groups: dict[str, GroupSettings]

    def save(self, folder: Path) -> ContextFile:
        """Write it where the workers will read it."""
        buffer = io.BytesIO()
        np.savez(buffer, plain=np.array(json.dumps(_plain(self))), **_arrays(self.stars))  # type: ignore[arg-type]
        content = buffer.getvalue()
        path = folder / f"context-{hashlib.sha256(content).hexdigest()[:24]}"
        if not path.exists():
            scratch = path.with_suffix(".new")
            scratch.write_bytes(content)
            scratch.replace(path)
        planes = tuple((name, Path(use.folder)) for name, use in self.chains.items())
        return ContextFile(path, planes)


@lru_cache(maxsize=2)
def load_context(file: ContextFile) -> Context:
    """The context of a file; read once in a process."""
    with np.load(file.path, allow_pickle=False) as kept:
        plain = json.loads(str(kept["plain"]))
        stars = _stars(kept, plain)
    groups = {
        name: GroupSettings(
            Probed.from_json(values["probed"]), tuple(values["radii_px"]),
            values["radii_follow_width"], (values["annulus_px"][0], values["annulus_px"][1]),
        )
        for name, values in plain["groups"].items()
    }  # fmt: skip
    chains = {}
    for name, planes in file.planes:
        values = plain["chains"][name]
        camera = CameraConstants(**values["camera"])
        chains[name] = ChainUse(**{**values, "folder": str(planes), "camera": camera})
    hint = plain["hint_deg"]
    return Context(
        stars, plain["stars_print"], plain["bands"], chains,
        (hint[0], hint[1]) if hint else None, groups,
    )  # fmt: skip


def _arrays(stars: StarTable) -> dict[str, NDArray[Any]]:
    found: dict[str, NDArray[Any]] = {name: getattr(stars, name) for name in _STAR_ARRAYS}
    if stars.parallax_mas is not None:
        found["parallax_mas"] = stars.parallax_mas
    for number, band in enumerate(stars.bands.values()):
        found[f"magnitude_{number}"] = band.magnitude
        found[f"uncertainty_{number}"] = band.uncertainty
    return found


def _stars(kept: Mapping[str, NDArray[Any]], plain: dict[str, Any]) -> StarTable:
    bands = {
        name: Band(kept[f"magnitude_{number}"], kept[f"uncertainty_{number}"])
        for number, name in enumerate(plain["star_bands"])
    }
    ra, dec, pm_ra, pm_dec, variable = (kept[name] for name in _STAR_ARRAYS)
    parallax = kept["parallax_mas"] if "parallax_mas" in kept else None  # noqa: SIM401
    return StarTable(
        tuple(plain["names"]), ra, dec, pm_ra, pm_dec, plain["epoch_yr"], bands, variable, parallax
    )


def _plain(context: Context) -> dict[str, Any]:
    groups = {
        name: {**vars(group), "probed": group.probed.to_json()}
        for name, group in context.groups.items()
    }
    return {
        "names": context.stars.names, "epoch_yr": context.stars.epoch_yr,
        "star_bands": list(context.stars.bands), "stars_print": context.stars_print,
        "bands": context.bands, "hint_deg": context.hint_deg, "groups": groups,
        "chains": {name: _without_place(use) for name, use in context.chains.items()},
    }  # fmt: skip


def _without_place(use: ChainUse) -> dict[str, Any]:
    """A chain's use but for where its planes lie, which is another folder for other workers."""
    values = asdict(use)
    del values["folder"]
    return values


_solvers: dict[tuple[str, float], tuple[Solver, Ints]] = {}
_MOST_SOLVERS = 4


def solver_of(context: Context, year: float) -> tuple[Solver, Ints]:
    """The solver of a catalogue at a date, and table rows in the solver's order; made once in a
    process for the same stars.
    """
    key = (context.stars_print, year)
    if key not in _solvers:
        order = context.stars.brightness_order()
        ra, dec = places_at(context.stars, year)
        while len(_solvers) >= _MOST_SOLVERS:
            _solvers.pop(next(iter(_solvers)))
        _solvers[key] = Solver(ra[order], dec[order]), order
    return _solvers[key]


def save_chain(chain: Chain, folder: Path) -> None:
    """Write a chain's planes to a folder named by their content; workers map them into memory and
    share the pages.
    """
    folder.mkdir(parents=True, exist_ok=True)
    for name in ("offset_adu", "gain", "defects", "repairs"):
        np.save(folder / f"{name}.npy", getattr(chain, name))


@lru_cache(maxsize=4)
def load_chain(folder: str) -> Chain:
    """A chain written by ``save_chain``."""
    names = ("offset_adu", "gain", "defects", "repairs")
    # Copy-on-write maps are shared in memory and have the type that the kernels expect.
    return Chain(*(np.load(Path(folder) / f"{name}.npy", mmap_mode="c") for name in names))
