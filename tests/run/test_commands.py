"""The command line as a newcomer meets it."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from builders import star_table
from narrow_beacon.bench import run as bench_run
from narrow_beacon.bench.compare import NightScore, reduced_chi2
from narrow_beacon.bench.fields import FieldResult, solve_field
from narrow_beacon.bench.names import MEASURED
from narrow_beacon.bench.pulls import worst_overlap_error
from narrow_beacon.cli import main
from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.frames.frame import LeftOut, SortedNight
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce import Outcome
from narrow_beacon.screen import Bars, print_outcome
from narrow_beacon.simulate.fields import make_field
from narrow_beacon.warm import warm

ROOT = Path(__file__).resolve().parents[2]


def test_help_names_the_commands() -> None:
    result = CliRunner().invoke(main, ["--help"])
    assert result.exit_code == 0
    for command in ("reduce", "solve", "correct", "demo", "bench", "cone"):
        assert command in result.output


def test_a_demo_never_overwrites(tmp_path: Path) -> None:
    (tmp_path / "mine.txt").write_text("keep")
    result = CliRunner().invoke(main, ["demo", str(tmp_path)])
    assert result.exit_code == 2
    assert "is not empty" in result.output
    assert [path.name for path in tmp_path.iterdir()] == ["mine.txt"]


def test_a_missing_plan_gives_status_2(tmp_path: Path) -> None:
    result = CliRunner().invoke(main, ["reduce", str(tmp_path / "none.toml")])
    assert result.exit_code == 2
    assert "cannot be opened" in result.output


def test_an_output_folder_that_cannot_be_written_is_named(tmp_path: Path) -> None:
    from narrow_beacon.simulate.plain import write_plain_night

    write_plain_night(tmp_path, 1, exposures=1, shape=(96, 128), calibration=1)
    (tmp_path / "out").write_text("a file where the folder should be")
    result = CliRunner().invoke(main, ["reduce", str(tmp_path / "plan.toml"), "--workers", "1"])
    assert result.exit_code == 2
    assert "out" in result.output
    assert (tmp_path / "out").read_text() == "a file where the folder should be"


def test_a_wrong_benchmark_is_named_with_the_right_ones(capsys: pytest.CaptureFixture[str]) -> None:
    assert bench_run.run_benches(["sped"]) == 2
    printed = capsys.readouterr().out
    assert "no benchmark sped" in printed
    assert "speed" in printed
    told = CliRunner().invoke(main, ["bench", "--help"]).output
    assert all(f"\n    {name} " in told for name in bench_run.BENCHES)
    assert set(MEASURED) == set(bench_run.BENCHES)


def test_benchmarks_say_which_aims_were_missed(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    benches = {"good": lambda: np.float64(1.0) < 2.0, "bad": lambda: False}
    monkeypatch.setattr(bench_run, "BENCHES", benches)
    assert bench_run.run_benches([], tmp_path / "told.json") == 1
    printed = capsys.readouterr().out
    assert json.loads((tmp_path / "told.json").read_text())["met"] == {"good": True, "bad": False}
    assert "good: every aim met" in printed
    assert "bad: AN AIM WAS MISSED" in printed
    assert bench_run.run_benches(["good"]) == 0


def test_scores_are_what_they_say() -> None:
    rng = np.random.default_rng(0)
    sigma = rng.uniform(0.5, 2.0, 20000)
    assert reduced_chi2(rng.normal(7.0, sigma), sigma) == pytest.approx(1.0, abs=0.03)
    assert reduced_chi2(rng.normal(7.0, 2 * sigma), sigma) == pytest.approx(4.0, abs=0.12)
    assert worst_overlap_error() < 1e-6
    assert NightScore(1, 1, 0.0, 1.0, 1.0, 1, 0.0, 0.0).points == 1


def test_a_wrongly_placed_field_would_show_in_the_benchmark() -> None:
    field = make_field(31)
    other = make_field(32)
    right = solve_field(field)
    assert right.placed
    assert right.error_px < 3
    # The same stars said to be seen from another pointing: placed, and far from the "truth".
    from dataclasses import replace

    wrong: FieldResult = solve_field(
        replace(field, pointing=replace(other.pointing, shape=field.pointing.shape))
    )
    assert wrong.placed
    assert wrong.error_px > 100


def test_each_stage_is_a_line_where_nobody_watches(capsys: pytest.CaptureFixture[str]) -> None:
    with Bars() as bars:
        bars.advance()
        bars.start("first", 3)
        bars.advance(3)
        assert capsys.readouterr().err == ""  # said once it is done
        bars.start("second", 0)
        bars.advance()
    lines = [line.split() for line in capsys.readouterr().err.splitlines()]
    assert lines == [["first", "3/3", "0:00:00"], ["second", "1/1", "0:00:00"]]


def test_bars_are_drawn_on_a_terminal(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sys.stderr, "isatty", lambda: True)
    with contextlib.suppress(InterruptedError), Bars() as bars:
        bars.start("first", 3)
        bars.advance(3)
        bars.start("second", 8)
        bars.advance(2)
        raise InterruptedError
    printed = capsys.readouterr().err
    assert "━" in printed
    assert "3/3" in printed
    assert "2/8" in printed  # what is not finished is not said to be


def test_warming_up_compiles_without_complaint() -> None:
    warm()


@pytest.mark.skipif(shutil.which("sh") is None, reason="no shell")
def test_the_launcher_starts_at_once_when_all_is_there() -> None:
    """It finds the environment that runs this test, installs nothing, and hands over."""
    stamp = ROOT / ".venv" / ".dev-lock"
    if not stamp.exists():
        pytest.skip("the environment was not made by the launcher")
    before = stamp.stat().st_mtime_ns
    done = subprocess.run(
        [str(ROOT / "beacon"), "bench", "nothing"], capture_output=True, text=True,
        env={**os.environ, "PATH": "/usr/bin:/bin"}, cwd="/", check=False,
    )  # fmt: skip
    assert done.returncode == 2
    assert "no benchmark nothing" in done.stdout
    assert "installing" not in done.stderr
    assert stamp.stat().st_mtime_ns == before


def test_what_looks_like_markup_is_printed_as_it_is(capsys: pytest.CaptureFixture[str]) -> None:
    plan = Plan(Path("/x/plan.toml"), "", ())
    odd = LeftOut("night/[/b]:smile:.fits", "no [kit] in it")
    remark = Remark("intake", "no [kit] aperture_m: scintillation is left out", "[V]", "3 mmag")
    nothing = exposure_times([], 0.0, 0.0, None)
    night = SortedNight((), (), (odd,))
    print_outcome(
        Outcome(plan, star_table(), None, night, (), {}, nothing, {}, (), {}, (remark,), {})
    )
    printed = capsys.readouterr().out
    assert "night/[/b]:smile:.fits: no [kit] in it" in printed
    assert "[V]: no [kit] aperture_m: scintillation is left out" in printed
    assert "what it may cost: 3 mmag" in printed


@pytest.mark.parametrize(
    "words",
    [
        ["correct", "plan.toml", "--write", "out", "--pedestal", "nan"],
        ["combine", "plan.toml", "--write", "out", "--minutes", "nan"],
        ["solve", "--scale", "nan", "nan"],
        ["figure", __file__, "--size", "nan", "11"],
        ["period", __file__, "--shortest", "inf"],
    ],
)
def test_what_is_no_number_is_refused_wherever_one_is_asked_for(words: list[str]) -> None:
    said = CliRunner().invoke(main, words)
    assert said.exit_code == 2
    assert "no number that can be used" in said.output
