"""Small nights with known truth, reduced as the command line does."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from astropy.io import fits

from narrow_beacon.bench.compare import numbers, read_csv
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.simulate.plain import write_plain_night

SHAPE = (320, 320)
COUNT = 14


@dataclass(frozen=True)
class Reduced:
    """What became of a small night: its curve against the truth, in order of time."""

    outcome: Outcome
    rows: list[dict[str, str]]
    error: np.ndarray
    sigma: np.ndarray
    exposures: dict[str, dict[str, str]]
    truth: dict[str, dict[str, Any]]
    """Of every exposure, by its name in the results."""

    @property
    def good(self) -> np.ndarray:
        """Which rows are good."""
        return np.array([row["state"] == "good" for row in self.rows])

    def said(self, words: str) -> bool:
        """Whether a remark holds some words."""
        return any(words in str(remark) for remark in self.outcome.remarks)

    def honest(self) -> bool:
        """No good point is off by more than five of its uncertainties, the catalogue's common
        offset of 3 mmag included.
        """
        return bool(np.all(np.abs(self.error) < 5 * np.hypot(self.sigma, 0.003), where=self.good))


def reduced(
    folder: Path,
    spoil: Callable[[Path], None] = lambda _: None,
    plan: Mapping[str, str] | None = None,
    name_of: Callable[[str], str] = lambda name: name.removesuffix(".gz"),
    **night: Any,
) -> Reduced:
    """Write a small night, spoil its files, reduce it. ``plan`` replaces text of the plan,
    ``name_of`` gives the file of the truth that an exposure is.
    """
    usual = {"exposures": COUNT, "shape": SHAPE, "density": 12000.0, "calibration": 6}
    truth = write_plain_night(folder, 7, **{**usual, **night})
    spoil(folder / "raw")
    path = folder / "plan.toml"
    text = path.read_text(encoding="utf-8")
    for old, new in (plan or {}).items():
        assert old in text
        text = text.replace(old, new)
    path.write_text(text, encoding="utf-8")
    outcome = reduce_plan(read_plan(path), 1)
    by_file = {f"raw/{item['file']}": item for item in truth["exposures"]}
    curve = folder / "out" / "light_curve.csv"
    rows = read_csv(curve) if curve.exists() else []
    truth_mag = np.array([by_file[name_of(row["exposure"])]["target_mag"] for row in rows])
    return Reduced(
        outcome, rows, numbers(rows, "magnitude") - truth_mag, numbers(rows, "uncertainty"),
        {row["file"]: row for row in read_csv(folder / "out" / "exposures.csv")}, by_file,
    )  # fmt: skip


def edit(path: Path, change: Callable[[np.ndarray, fits.Header], np.ndarray]) -> None:
    """Change a file's pixels and header."""
    with fits.open(path) as hdus:
        header = hdus[0].header.copy()
        data = change(hdus[0].data.astype(np.float64), header)
    for key in ("BZERO", "BSCALE"):
        header.remove(key, ignore_missing=True)
    fits.PrimaryHDU(data, header).writeto(path, overwrite=True)
