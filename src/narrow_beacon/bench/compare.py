"""Compare a reduction's files with the simulator's truth."""

from __future__ import annotations

import csv
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from astropy.wcs import WCS

from narrow_beacon.simulate.pointing import Pointing


@dataclass(frozen=True)
class NightScore:
    """How a plain night came out; magnitudes in mag, positions in pixels, times in seconds."""

    points: int
    exposures: int
    median_error_mag: float
    scatter_over_predicted: float
    check_chi2: float
    placed: int
    worst_position_px: float
    worst_jd_s: float


def read_csv(path: Path) -> list[dict[str, str]]:
    """Rows of a CSV file."""
    with path.open(newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def numbers(rows: list[dict[str, str]], name: str) -> np.ndarray:
    """A column as numbers; empty cells are NaN."""
    return np.array([float(row[name] or "nan") for row in rows])


def score_night(folder: Path, output: str = "out") -> NightScore:
    """Score a plain night reduced into ``folder``/``output`` against ``folder``/truth.json."""
    truth = json.loads((folder / "truth.json").read_text(encoding="utf-8"))
    by_file = {f"raw/{item['file']}": item for item in truth["exposures"]}
    curve = read_csv(folder / output / "light_curve.csv")
    exposures = {row["file"]: row for row in read_csv(folder / output / "exposures.csv")}
    true_mag = np.array([by_file[row["exposure"]]["target_mag"] for row in curve])
    error = numbers(curve, "magnitude") - true_mag
    sigma = numbers(curve, "uncertainty")
    check, check_sigma = numbers(curve, "check_magnitude"), numbers(curve, "check_uncertainty")
    jd = np.array([by_file[row["exposure"]]["jd_utc"] for row in curve])
    provenance = json.loads((folder / output / "provenance.json").read_text(encoding="utf-8"))
    worst = [
        position_error_px(item, provenance["exposures"][name]["placement"]["wcs"])
        for name, item in by_file.items()
        if "placement" in provenance["exposures"].get(name, {})
    ]
    placed = sum(bool(exposures[name]["ra_deg"]) for name in by_file)
    return NightScore(
        points=len(curve),
        exposures=len(by_file),
        median_error_mag=float(abs(np.median(error))),
        scatter_over_predicted=float(np.std(error, ddof=1) / np.sqrt(np.mean(sigma**2))),
        check_chi2=reduced_chi2(check, check_sigma),
        placed=placed,
        worst_position_px=float(max(worst)) if worst else float("nan"),
        worst_jd_s=float(np.max(np.abs(numbers(curve, "jd_utc") - jd)) * 86400.0),
    )


def reduced_chi2(values: np.ndarray, sigma: np.ndarray) -> float:
    """χ² about the weighted mean over the degrees of freedom."""
    mean = np.sum(values / sigma**2) / np.sum(1 / sigma**2)
    return float(np.sum(((values - mean) / sigma) ** 2) / (values.size - 1))


def position_error_px(item: dict[str, Any], wcs_cards: dict[str, Any]) -> float:
    """Largest distance in pixels between the true and the found WCS over the frame."""
    pointing = Pointing(**{**item["pointing"], "shape": tuple(item["pointing"]["shape"])})
    height, width = pointing.shape
    from astropy.io import fits

    header = fits.Header()
    for key, value in wcs_cards.items():
        header[key] = value
    x, y = np.meshgrid(np.linspace(1, width, 7), np.linspace(1, height, 7))
    ra, dec = pointing.wcs().all_pix2world(x.ravel(), y.ravel(), 1)
    found_x, found_y = WCS(header).all_world2pix(ra, dec, 1, quiet=True)
    return float(np.max(np.hypot(found_x - x.ravel(), found_y - y.ravel())))
