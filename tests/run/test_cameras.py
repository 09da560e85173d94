"""Cameras of every kind: small nights with known truth, corrected as well as their frames allow."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow.parquet as pq

from narrow_beacon.simulate.camera import Camera
from small_nights import SHAPE, edit, reduced


def test_overscan_is_taken_off_trimmed_and_positions_stay_those_of_the_file(
    tmp_path: Path,
) -> None:
    wild = Camera(41, SHAPE, overscan_px=24, drift_adu=20.0, banding_adu=2.0)
    calm = reduced(tmp_path / "calm", camera=Camera(41, SHAPE))
    night = reduced(tmp_path / "wild", camera=wild)
    assert len(night.rows) == len(calm.rows)
    assert night.honest()
    # A bias that wanders by 20 ADU and rows that jitter by 2 cost next to nothing.
    assert np.std(night.error) < 1.15 * np.std(calm.error)
    (chain,) = night.outcome.chains.values()
    assert chain.stations[0].kind == "overscan"
    assert "rows jitter by 1.9" in chain.stations[0].words.replace("2.0", "1.9")
    for name, first in (("calm", 0.0), ("wild", 24.0)):
        census = pq.read_table(tmp_path / name / "out" / "census.parquet")
        x = census["x_px"].to_numpy()
        assert first < x.min() < first + 20
        assert SHAPE[1] + first - 20 < x.max() < SHAPE[1] + first + 1
    # The centre is that of what sees light.
    for file, row in night.exposures.items():
        if row["ra_deg"]:
            other = calm.exposures[file]
            assert abs(float(row["dec_deg"]) - float(other["dec_deg"])) * 3600 < 0.1


def test_a_dark_is_scaled_by_the_overscan_where_there_is_no_bias(tmp_path: Path) -> None:
    def no_bias(raw: Path) -> None:
        for path in (raw / "calibration").glob("bias-*"):
            path.unlink()
        for path in (raw / "calibration").glob("dark-*"):
            edit(path, lambda adu, header: _as_length(adu, header, 90.0))

    night = reduced(tmp_path, no_bias, camera=Camera(41, SHAPE, overscan_px=24, drift_adu=9.0))
    assert night.honest()
    (chain,) = night.outcome.chains.values()
    words = " ".join(station.words for station in chain.stations)
    assert "scaled by" in words
    # The frames are of 60 s and only called 90: all of their pattern is in the exposures.
    factor = float(words.partition("scaled by ")[2].split()[0])
    assert abs(factor - 1.0) < 0.05


def _as_length(adu: np.ndarray, header: object, seconds: float) -> np.ndarray:
    header["EXPTIME"] = seconds  # type: ignore[index]
    return adu.astype(np.uint16)
