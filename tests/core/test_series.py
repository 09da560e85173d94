"""Periods: the fast periodograms against direct sums, planted periods found with honest
uncertainties, noise not taken for one, curves read from anybody's tables.
"""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from narrow_beacon.cli import main
from narrow_beacon.core.series.curve_file import CurveFileError, read_curve
from narrow_beacon.core.series.gls import periodogram, power_at
from narrow_beacon.core.series.harmonics import harmonic_periodogram, harmonic_power_at
from narrow_beacon.core.series.periods import TooFewPointsError, find_periods
from narrow_beacon.simulate.curves import sampled_curve


def nights(rng: np.random.Generator, count: int) -> np.ndarray:
    """Times in days of some nights of a month, each a few hours long."""
    some = rng.choice(30, count, replace=False)
    return np.sort(
        np.concatenate([n + rng.uniform(0.3, 0.55, rng.integers(40, 100)) for n in some])
    )


def test_the_fast_sums_are_those_of_each_frequency_by_itself() -> None:
    rng = np.random.default_rng(1)
    t = nights(rng, 4)
    y, sigma = rng.normal(0, 0.02, t.size), rng.uniform(0.005, 0.02, t.size)
    fast = periodogram(t, y, sigma, 0.1, 40.0)
    some = slice(None, None, 41)
    exact = power_at(t, y, sigma, fast.frequency_per_d[some])
    assert fast.power[some] == pytest.approx(exact, abs=1e-6)
    # With one harmonic it is the same wave; with six what least squares give.
    one = harmonic_power_at(t, y, sigma, fast.frequency_per_d[some][:50], 1)
    assert one == pytest.approx(exact[:50], abs=2e-4)
    six = harmonic_periodogram(t, y, sigma, 1.0, 6.0, 6)
    at = 777
    basis = [np.ones_like(t)]
    for h in range(1, 7):
        phase = 2 * np.pi * six.frequency_per_d[at] * h * t
        basis += [np.cos(phase), np.sin(phase)]
    matrix = np.stack(basis, axis=1) / sigma[:, None]
    mean = np.average(y, weights=sigma**-2)
    fit = np.linalg.lstsq(matrix, (y - mean) / sigma)[0]
    left = np.sum(((y - mean) / sigma - matrix @ fit) ** 2) / np.sum(((y - mean) / sigma) ** 2)
    assert six.power[at] == pytest.approx(1.0 - left, abs=2e-3)


def test_planted_waves_are_found_and_as_unsure_as_they_say() -> None:
    rng = np.random.default_rng(5)
    pulls = []
    for _ in range(30):
        t = nights(rng, int(rng.integers(4, 9)))
        true = float(np.exp(rng.uniform(np.log(0.08), np.log(0.5))))
        sigma = np.full(t.size, 0.01)
        y = 0.02 * np.sin(2 * np.pi * t / true + rng.uniform(0, 6)) + rng.normal(0, sigma)
        best = find_periods(t, y, sigma, "waves", 0.03, 2.0).peaks[0]
        assert best.false_alarm < 1e-4
        pulls.append((best.period_d - true) / best.uncertainty_d)
    right = np.abs(pulls) < 20  # an alias is off by hundreds of uncertainties
    assert right.sum() >= 29
    # 30 values: their scatter is known to 13%.
    assert 0.65 < np.std(np.array(pulls)[right]) < 1.4


def test_eclipses_are_found_by_their_shape_and_shadows_are_named() -> None:
    rng = np.random.default_rng(3)
    hits = 0
    for _ in range(6):
        t = nights(rng, 7)
        true = float(rng.uniform(0.4, 1.4))
        phase = (t / true + rng.uniform()) % 1
        y = 0.3 * np.exp(-0.5 * ((phase - 0.25) / 0.04) ** 2)
        y += 0.15 * np.exp(-0.5 * ((phase - 0.75) / 0.04) ** 2) + rng.normal(0, 0.01, t.size)
        found = find_periods(t, y, np.full(t.size, 0.01))
        assert found.kind == "eclipses"
        off = [abs(found.peaks[0].frequency_per_d - m / true) * found.span_d for m in (1, 2, 0.5)]
        hits += min(off) < 0.5
    assert hits >= 5
    t = nights(rng, 6)
    y = 0.02 * np.sin(2 * np.pi * 5.3 * t) + rng.normal(0, 0.004, t.size)
    notes = [p.note for p in find_periods(t, y, np.full(t.size, 0.004), "waves", 0.05, 2.0).peaks]
    assert notes[0] == ""
    assert any("alias of the first" in note for note in notes)


@pytest.mark.parametrize(
    ("seed", "why"),
    [
        (81, "a second wave beats with the first on two nights"),
        (14, "half of an eclipsing star's cycle, a fringe away, is the highest peak"),
        (232, "two waves on three nights"),
    ],
)
def test_a_wrong_fringe_that_is_higher_does_not_come_first(seed: int, why: str) -> None:
    curve = sampled_curve(seed, scattered=True)
    t, span = curve.time_d, float(np.ptp(curve.time_d))
    found = find_periods(t, curve.magnitude, curve.sigma_mag)
    waves = periodogram(t, curve.magnitude, curve.sigma_mag, 1.0 / span, 60.0)
    known = [1.0 / (p * k) for p in curve.periods_d for k in (0.5, 1.0, 2.0)]

    def away(frequency: float) -> float:
        return min(abs(frequency - f) for f in known) * span

    assert away(float(waves.frequency_per_d[waves.power.argmax()])) > 1.0, why
    assert away(found.peaks[0].frequency_per_d) < 0.35


@pytest.mark.parametrize("points", [8, 30, 300])
def test_a_curve_that_does_not_change_has_no_period(points: int) -> None:
    t = np.linspace(0.0, 3.0, points)
    found = find_periods(t, np.full(points, 12.0), np.full(points, 0.01))
    assert all(peak.false_alarm > 0.5 for peak in found.peaks)


def test_noise_is_no_period() -> None:
    rng = np.random.default_rng(8)
    alarms = []
    for n in range(60):
        t = nights(rng, 3)
        y = rng.normal(0, 1, t.size)
        if n % 2:  # slow changes of the night, as of the air
            y = y + 1.5 * np.interp(t, t[::25], rng.normal(0, 1, t[::25].size))
        alarms.append(find_periods(t, y, np.ones(t.size), "waves", 0.03, 0.2).peaks[0].false_alarm)
    # At 2% one in 60 is what chance gives; four or more it gives in 3 of 100.
    assert np.sum(np.array(alarms) < 0.02) <= 3
    with pytest.raises(TooFewPointsError, match="5 points"):
        find_periods(np.arange(5.0), np.zeros(5), np.ones(5))


def test_a_curve_from_anybody_s_table_gives_its_period_on_the_command_line(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    t = nights(rng, 5) + 2461300.0
    path = tmp_path / "theirs.csv"
    lines = ["HJD,Vmag,e_Vmag,band"]
    for band, offset in (("V", 0.0), ("B", 0.7)):
        m = 12.0 + offset + 0.05 * np.sin(2 * np.pi * t / 0.2137) + rng.normal(0, 0.01, t.size)
        lines += [f"{a:.6f},{b:.4f},0.01,{band}" for a, b in zip(t, m, strict=True)]
    path.write_text("\n".join([*lines, "2461301.5,,0.01,V"]) + "\n")
    table = read_curve(path)
    assert dict(table.columns) == {
        "time": "HJD", "magnitude": "Vmag", "uncertainty": "e_Vmag", "filter": "band",
    }  # fmt: skip
    assert table.t_d.size == 2 * t.size
    run = CliRunner().invoke(main, ["period", str(path), "--filter", "V", "--json"])
    assert run.exit_code == 0, run.output
    told = json.loads(run.stdout)
    assert set(told) == {"points", "span_d", "peaks"}
    assert told["points"] == t.size
    best = told["peaks"][0]
    assert set(best) == {"period_d", "uncertainty_d", "power", "false_alarm", "note"}
    assert abs(best["period_d"] - 0.2137) < 4 * best["uncertainty_d"]
    unnamed = CliRunner().invoke(main, ["period", str(path)])
    assert unnamed.exit_code == 2
    assert "name one (--filter)" in unnamed.output
    path.write_text("a,b\n1,2\n")
    with pytest.raises(CurveFileError, match="is a time"):
        read_curve(path)
