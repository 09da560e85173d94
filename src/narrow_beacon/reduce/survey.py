"""A field's variable stars, from what a reduction wrote."""

from __future__ import annotations

import csv
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.measure.flags import SPOILED, StarFlag
from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.core.series.survey import FieldLight

_CURVE, _CENSUS, _FIELD, _FILES = "light_curve.csv", "census.parquet", "stars.csv", "exposures.csv"
_LEAST_SNR = 4.0


class SurveyError(BeaconError):
    """A folder that is no reduction's output; says what is missing."""


def field_lights(folder: Path) -> list[FieldLight]:
    """All stars of each filter on the exposures that have a point. Raises SurveyError."""
    for name in (_CURVE, _CENSUS, _FILES):
        if not (folder / name).is_file():
            raise SurveyError(f"{folder} has no {name}: give the output folder of a reduction")
    with (folder / _CURVE).open(encoding="utf-8", newline="") as file:
        rows = [row for row in csv.DictReader(file) if row["zero_point"]]
    targets = {row["target"] for row in rows}
    # Several targets have rows of their own for each exposure; the first one's zero points serve.
    first = rows[0]["target"] if rows else ""
    rows = [row for row in rows if row["target"] == first] if len(targets) > 1 else rows
    known = _field(folder / _FIELD)
    with (folder / _FILES).open(encoding="utf-8", newline="") as file:
        seconds = {r["file"]: float(r["exposure_s"]) for r in csv.DictReader(file)
                   if r["exposure_s"]}  # fmt: skip
    filters = sorted({row["filter"] for row in rows})
    return [
        _of_filter(folder, [r for r in rows if r["filter"] == name], name, known, seconds)
        for name in filters
    ]


@dataclass(frozen=True)
class _Known:
    """Of the field's stars: colours by name, and by how much others' light may be wrong in mag, by
    filter and name.
    """

    colour: dict[str, float]
    beside_mag: dict[tuple[str, str], float]


def _field(path: Path) -> _Known:
    """The colour is the magnitude in the first filter less that in the last, as measured."""
    if not path.is_file():
        return _Known({}, {})
    with path.open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    by_filter: dict[str, dict[str, float]] = {}
    for row in rows:
        if row["magnitude"]:
            by_filter.setdefault(row["filter"], {})[row["star"]] = float(row["magnitude"])
    beside = {
        (row["filter"], row["star"]): float(row["neighbour_mag"])
        for row in rows if row["neighbour_mag"]
    }  # fmt: skip
    names = sorted(by_filter)
    one, two = (by_filter[names[0]], by_filter[names[-1]]) if len(names) > 1 else ({}, {})
    return _Known({star: one[star] - two[star] for star in one if star in two}, beside)


def _of_filter(
    folder: Path,
    rows: list[dict[str, str]],
    name: str,
    known: _Known,
    seconds: dict[str, float],
) -> FieldLight:
    table = pq.read_table(
        folder / _CENSUS,
        columns=["exposure", "star", "flags", "radius_px", "counts_adu", "uncertainty_adu"],
        filters=[("filter", "=", name)],
    )  # fmt: skip
    rows = sorted(rows, key=lambda row: float(row["jd_utc"]))
    place = {row["exposure"]: at for at, row in enumerate(rows)}
    exposures = _codes(table["exposure"], place)
    names = sorted(set(table["star"].unique().to_pylist()))
    stars = _codes(table["star"], {star: at for at, star in enumerate(names)})
    steps = len(table["radius_px"][0]) if table.num_rows else 1
    radii, counts, noise = (
        table[column].combine_chunks().flatten().to_numpy(zero_copy_only=False).reshape(-1, steps)
        for column in ("radius_px", "counts_adu", "uncertainty_adu")
    )
    wanted = np.array([float(row["radius_px"]) for row in rows])
    keep = exposures >= 0
    step = np.argmin(np.abs(radii - wanted[np.maximum(exposures, 0)][:, None]), axis=1)
    at = np.arange(step.size)
    flags = table["flags"].to_numpy()
    light, sigma = counts[at, step].astype(float), noise[at, step].astype(float)
    good = keep & (light > _LEAST_SNR * sigma) & ((flags & int(SPOILED)) == 0)
    shape = (len(rows), len(names))
    magnitude, uncertainty = np.full(shape, np.nan), np.full(shape, np.nan)
    spot = exposures[good], stars[good]
    zero = np.array([float(row["zero_point"]) for row in rows])
    error = np.array([float(row["zero_point_uncertainty"] or 0.0) for row in rows])
    time_s = np.array([seconds[row["exposure"]] for row in rows])
    magnitude[spot] = zero[spot[0]] - 2.5 * np.log10(light[good] / time_s[spot[0]])
    uncertainty[spot] = np.hypot(POGSON * sigma[good] / light[good], error[spot[0]])
    beside = np.zeros(shape, bool)
    beside[spot] = (flags[good] & int(StarFlag.NEIGHBOUR)) > 0
    return FieldLight(
        name, np.array([float(row["bjd_tdb"] or row["jd_utc"]) for row in rows]), magnitude,
        uncertainty, np.array([float(row["fwhm_px"] or "nan") for row in rows]), tuple(names),
        np.array([known.colour.get(star, np.nan) for star in names]), beside.mean(axis=0),
        np.array([known.beside_mag.get((name, star), 0.0) for star in names]),
    )  # fmt: skip


def _codes(column: pa.ChunkedArray, place: dict[str, int]) -> np.ndarray:
    """The numbers of a column's words; −1 for one that has none."""
    coded = column.combine_chunks()
    if not pa.types.is_dictionary(coded.type):
        coded = coded.dictionary_encode()
    number = np.array([place.get(str(word), -1) for word in coded.dictionary.to_pylist()], int)
    return number[coded.indices.to_numpy(zero_copy_only=False)]
