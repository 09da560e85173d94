"""Exposures combined for faint targets: flux kept, noise known, what passes gone."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest
from astropy.io import fits
from click.testing import CliRunner

from builders import star_image
from narrow_beacon.bench.compare import numbers, read_csv
from narrow_beacon.cli import main
from narrow_beacon.core.place.combining import Layer, combine_layers
from narrow_beacon.core.place.resample import mapping_between, resample
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.simulate.plain import write_plain_night

SCALE = 1.2 / 3600.0


def solution(shape: tuple[int, int], turn_deg: float, shift: tuple[float, float]) -> Solution:
    c, s = np.cos(np.radians(turn_deg)), np.sin(np.radians(turn_deg))
    cd = SCALE * np.array([[-c, s], [s, c]])
    x, y = (shape[1] - 1) / 2 + shift[0], (shape[0] - 1) / 2 + shift[1]
    return Solution.linear(120.0, 30.0, x, y, cd, shape)


def aperture(pixels: np.ndarray, x: float, y: float, radius: float) -> float:
    height, width = pixels.shape
    v, u = np.mgrid[0:height, 0:width]
    return float(np.nansum(pixels[np.hypot(u - x, v - y) < radius]))


@pytest.mark.parametrize("fwhm_px", [2.0, 3.0, 5.0])
@pytest.mark.parametrize(
    ("turn_deg", "shift"), [(0.0, (0.5, 0.5)), (180.0, (3.3, -7.8)), (31.0, (2.4, 1.1))]
)
def test_flux_is_kept_whatever_the_turn_and_shift(
    fwhm_px: float, turn_deg: float, shift: tuple[float, float]
) -> None:
    shape = (300, 300)
    reference, other = solution(shape, 0.0, (0.0, 0.0)), solution(shape, turn_deg, shift)
    at = np.array([[90.3, 130.8], [160.0, 101.2], [175.5, 200.4]])
    u, v = other.pixel(*reference.sky(at[:, 0], at[:, 1]))
    stars = star_image(shape, u, v, np.full(3, 1e6), fwhm=fwhm_px, sky=0.0, sigma=0.0)
    clear = np.zeros(shape, np.uint8)
    there = resample(stars, clear, mapping_between(reference, other), shape)
    for (x, y), a, b in zip(at, u, v, strict=True):
        # What the pixels at the rim of the circle hold: a thousandth.
        kept = aperture(there, x, y, 25.0) / aperture(stars, a, b, 25.0)
        assert kept == pytest.approx(1.0, abs=1e-3)
        assert centre(there, x, y, fwhm_px) == pytest.approx((x, y), abs=0.01)


def centre(pixels: np.ndarray, x: float, y: float, fwhm_px: float) -> tuple[float, float]:
    """Centroid under a window about the place where it should be."""
    v, u = np.mgrid[0 : pixels.shape[0], 0 : pixels.shape[1]]
    weight = np.nan_to_num(pixels) * np.exp(
        -((u - x) ** 2 + (v - y) ** 2) / (2 * (0.5 * fwhm_px) ** 2)
    )
    return float(np.average(u, weights=weight)), float(np.average(v, weights=weight))


def test_an_aperture_is_as_noisy_as_before_and_single_pixels_less() -> None:
    rng = np.random.default_rng(3)
    shape = (300, 300)
    noise = rng.normal(0.0, 10.0, shape).astype(np.float32)
    reference, other = solution(shape, 0.0, (0.0, 0.0)), solution(shape, 0.0, (0.5, 0.5))
    there = resample(noise, np.zeros(shape, np.uint8), mapping_between(reference, other), shape)
    inner = there[8:-8, 8:-8]
    # Half-way between pixels along both axes: 0.79 of the variance along each.
    assert inner.std() / 10.0 == pytest.approx(0.79, abs=0.02)
    boxes = inner[:280, :280].reshape(28, 10, 28, 10).sum(axis=(1, 3))
    # Of 784 sums: 2.5%, and the edges of a box lose a little.
    assert boxes.std() / 100.0 == pytest.approx(1.0, abs=0.07)


def test_bad_pixels_leave_no_trace() -> None:
    shape = (60, 60)
    flat = np.full(shape, 100.0, np.float32)
    bad = np.zeros(shape, np.uint8)
    flat[20, 20], bad[20, 20] = 5e4, 1
    flat[:, 40], bad[:, 40] = np.nan, 1
    reference, other = solution(shape, 0.0, (0.0, 0.0)), solution(shape, 0.0, (0.37, -0.2))
    there = resample(flat, bad, mapping_between(reference, other), shape)
    known = there[np.isfinite(there)]
    assert known == pytest.approx(100.0, abs=0.05)
    assert np.isnan(there[18:22, 18:22]).any()


@pytest.mark.parametrize(("method", "least"), [("clipped", 0.97), ("mean", 0.97), ("median", 0.7)])
def test_layers_are_weighted_and_their_noise_is_told(method: str, least: float) -> None:
    rng = np.random.default_rng(5)
    shape, gain = (200, 200), 1.3
    shares = np.array([1.0, 0.95, 0.5, 1.0, 0.9, 0.25, 1.0])
    skies = np.array([100.0, 120.0, 300.0, 90.0, 100.0, 110.0, 95.0])
    star = np.zeros(shape, np.float32)
    star[::10, ::10] = 400.0
    planes, layers = [], []
    for share, sky in zip(shares, skies, strict=True):
        electrons = rng.poisson((star * share + sky) * gain, shape) + rng.normal(0, 8.0, shape)
        planes.append((electrons / gain - sky).astype(np.float32))
        layers.append(Layer(share, float(np.hypot(np.sqrt(sky * gain), 8.0) / gain), sky))
    planes[0][55, :] += 900.0  # a trail
    planes[3][77, 33] += 5000.0  # a cosmic ray
    made = combine_layers(planes, layers, gain, method)
    signal = made.plane[::10, ::10] - np.median(made.plane)
    assert signal.mean() / shares.sum() == pytest.approx(400.0, rel=0.01)
    # The noise that gain and read noise tell is the result's own.
    clean = np.delete(np.delete(made.plane, [55, 77], axis=0), 33, axis=1)
    empty = clean[(clean - np.median(clean)) < 1000.0]
    empty = empty[np.abs(empty - np.median(empty)) < 5 * empty.std()]
    sky = np.median(empty)
    told = np.hypot(np.sqrt(max(sky, 0) / made.gain_e_per_adu),
                    made.read_noise_e / made.gain_e_per_adu)  # fmt: skip
    assert empty.std() / told == pytest.approx(1.0, abs=0.1 if method == "median" else 0.06)
    ideal = np.sqrt(sum((share / layer.noise_adu) ** 2
                        for share, layer in zip(shares, layers, strict=True)))  # fmt: skip
    assert shares.sum() / empty.std() > least * ideal
    trail = np.median(made.plane[55]) - sky
    if method == "clipped":
        assert abs(trail) < 3 * told
        assert abs(made.plane[77, 33] - sky) < 5 * told
        assert made.rejected[55].min() == 1
        assert made.rejected[77, 33] == 1
        assert made.rejected_share == pytest.approx(201 / (7 * 40_000), rel=0.5)
    elif method == "mean":
        assert trail > 3 * told
        assert made.rejected_share == 0.0


def test_combined_exposures_are_measured_like_any_other(tmp_path: Path) -> None:
    write_plain_night(
        tmp_path, 7, exposures=9, shape=(320, 320), density=12000.0, calibration=8, walk_px=2.0,
        troubles={4: {"trail": (160.0, 160.0, 0.4, 60.0)}},
    )  # fmt: skip
    plan = tmp_path / "plan.toml"
    answer = CliRunner().invoke(
        main, ["combine", str(plan), "--every", "4", "--write", str(tmp_path / "deep"), "--json",
               "--workers", "1"],
    )  # fmt: skip
    assert answer.exit_code == 0, answer.output
    told: list[dict[str, Any]] = json.loads(answer.stdout)
    assert set(told[0]) == {"written", "files", "jd_utc_mid", "exposure_s", "rejected_share"}
    assert [one["exposure_s"] for one in told[:2]] == [240.0, 240.0]
    assert sum(len(one["files"]) for one in told) >= 8
    assert told[0]["files"] == [f"raw/foxglove-00{n}.fits" for n in (1, 2, 3, 4)]
    for one in told:
        path = Path(one["written"])
        rejected = fits.getdata(path.with_name(path.name.replace("combined", "rejected")))
        assert rejected.dtype == np.uint16
        assert 0 <= one["rejected_share"] < 0.01
    reduce_plan(read_plan(plan), 1)
    text = plan.read_text().replace('"raw"', '"deep"').replace('"out"', '"again"')
    (tmp_path / "deep.toml").write_text(text)
    outcome = reduce_plan(read_plan(tmp_path / "deep.toml"), 1)
    # Their maps are no exposures, and no question either.
    assert {item.reason for item in outcome.night.left_out} == {
        "a map of what was left out of a combined exposure"
    }
    # Corrected already: nothing is taken off again, and nothing is missing.
    assert all(chain.stations[0].kind == "combined" for chain in outcome.chains.values())
    assert not any(remark.stage == "correct" for remark in outcome.remarks)
    single, deep = (census(tmp_path / name / "census.parquet") for name in ("out", "again"))
    ratios, errors = [], []
    for one in told:
        name = f"deep/{Path(one['written']).name}"
        for star in {star for exposure, star in deep if exposure == name}:
            parts = [single.get((file, star)) for file in one["files"]]
            radius, counts, sigma, flags = deep[name, star]
            if flags or any(part is None or part[3] for part in parts):
                continue
            sums = [(np.interp(radius[6], p[0], p[1]), np.interp(radius[6], p[0], p[2]))
                    for p in parts if p is not None]  # fmt: skip
            total = sum(value for value, _ in sums)
            error = float(np.sqrt(sum(value**2 for _, value in sums)))
            ratios.append((counts[6] / total, total / error))
            errors.append(sigma[6] / error)
    ratio, snr = np.array(ratios).T
    assert snr.size > 40
    # As bright as the sum of the single ones, to 2 mmag, and as sure, to 5%.
    assert np.average(ratio, weights=snr**2) == pytest.approx(1.0, abs=2e-3)
    assert np.median(errors) == pytest.approx(1.0, abs=0.05)
    # With the single ones in one curve: that of four is half as unsure, and of the same brightness.
    both = text.replace('"deep"', '["raw", "deep"]').replace('"again"', '"both"')
    (tmp_path / "both.toml").write_text(both)
    outcome = reduce_plan(read_plan(tmp_path / "both.toml"), 1)
    rows = {row["exposure"]: row for row in read_csv(tmp_path / "both" / "light_curve.csv")}
    first = told[0]
    made = rows[f"deep/{Path(first['written']).name}"]
    parts = [rows[file] for file in first["files"] if file in rows]
    sigma = np.median(numbers(parts, "uncertainty"))
    assert float(made["uncertainty"]) == pytest.approx(sigma / 2, rel=0.15)
    away = float(made["magnitude"]) - np.mean(numbers(parts, "magnitude"))
    assert abs(away) < 3.0 * sigma / 2
    assert any("beside single ones of the same time" in one.words for one in outcome.remarks)


def census(path: Path) -> dict[tuple[str, str], tuple[np.ndarray, np.ndarray, np.ndarray, str]]:
    table = pq.read_table(path).to_pydict()
    return {
        (exposure, star): (np.array(radius), np.array(counts), np.array(sigma), flags)
        for exposure, star, radius, counts, sigma, flags in zip(
            table["exposure"], table["star"], table["radius_px"], table["counts_adu"],
            table["uncertainty_adu"], table["flags"], strict=True,
        )
    }  # fmt: skip


def test_how_many_make_one_has_to_be_said_in_one_way(tmp_path: Path) -> None:
    write_plain_night(tmp_path, 7, exposures=1, shape=(96, 128), calibration=0)
    called = ["combine", str(tmp_path / "plan.toml"), "--write", str(tmp_path / "deep")]
    for more in ([], ["--every", "3", "--minutes", "9"]):
        answer = CliRunner().invoke(main, [*called, *more])
        assert answer.exit_code == 2
        assert "how many exposures make one, or how many minutes" in answer.output
