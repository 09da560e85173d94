"""Finder charts: north, hand, marks on the stars, over an exposure, the same file every time."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from builders import star_table
from narrow_beacon.cli import main
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.reduce.finder import (
    Backdrop,
    Look,
    Parts,
    _on_sky,
    _sky_picture,
    _turned,
    draw_finder,
    magnitude_words,
)
from narrow_beacon.simulate.plain import write_plain_night

PARTS = Parts(2, (0, 1), (4,))


@pytest.mark.parametrize("look", [Look(), Look(up_deg=90.0), Look(mirrored=True, up_deg=-35.0)])
def test_places_on_the_chart_are_places_on_the_sky(look: Look) -> None:
    east, north = np.array([3.0, 0.0, -1.0]), np.array([0.0, 2.0, 4.0])
    back = _on_sky(*_turned(east, north, look), look)
    assert np.allclose(back, [east, north])
    # North up has east to the left, its mirror to the right; 90° from north through east is east.
    x, y = _turned(np.array([1.0]), np.array([0.0]), look)
    if look == Look():
        assert (x[0], y[0]) == pytest.approx((-1.0, 0.0), abs=1e-12)
    if look.up_deg == 90.0:
        assert (x[0], y[0]) == pytest.approx((0.0, 1.0), abs=1e-12)


def test_magnitudes_have_no_point_that_could_be_a_star() -> None:
    assert [magnitude_words(12.44), magnitude_words(9.97), magnitude_words(np.nan)] == [
        "124", "100", "",
    ]  # fmt: skip
    assert magnitude_words(12.44, point=True) == "12.4"


@pytest.mark.parametrize("kind", ["svg", "pdf", "png"])
def test_a_chart_is_a_file_of_its_kind_and_always_the_same(tmp_path: Path, kind: str) -> None:
    stars = star_table(6)
    paths = [tmp_path / f"{n}.{kind}" for n in "ab"]
    for path in paths:
        draw_finder(stars, "V", PARTS, 2026.8, path, Look(width_arcmin=8.0))
    first, second = (path.read_bytes() for path in paths)
    assert first == second
    assert first[:5] in (b"<?xml", b"%PDF-", b"\x89PNG\r")
    assert len(first) > 5000


def test_an_exposure_lies_under_the_chart_where_its_stars_are() -> None:
    scale = 1.2 / 3600.0
    turn = np.radians(37.0)
    cd = scale * np.array([[-np.cos(turn), np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    solution = Solution(340.0, 38.0, 255.5, 255.5, cd, (512, 512), 0, np.empty(0), np.empty(0))
    pixels = np.full((512, 512), 100.0, np.float32)
    ra, dec = np.array([340.02]), np.array([38.03])
    x, y = (int(np.rint(v[0])) for v in solution.pixel(ra, dec))
    pixels[y - 2 : y + 3, x - 2 : x + 3] = 3000.0
    look = Look(width_arcmin=8.0, up_deg=20.0, mirrored=True)
    picture = _sky_picture(Backdrop(pixels, solution, 100.0, 10.0), 340.0, 38.0, look)
    rows, columns = np.nonzero(picture < 0.1)
    side = picture.shape[0]
    found = [(np.mean(v) + 0.5) / side * 8.0 - 4.0 for v in (columns, rows)]
    east = np.array([0.02 * 60 * np.cos(np.radians(38.03))])
    wanted = _turned(east, np.array([0.03 * 60]), look)
    assert found == pytest.approx([float(v[0]) for v in wanted], abs=0.02)


def test_a_plan_gives_its_chart(tmp_path: Path) -> None:
    write_plain_night(tmp_path, 3, exposures=1, shape=(200, 260), calibration=1)
    chart = tmp_path / "chart.svg"
    plan = tmp_path / "plan.toml"
    text = plan.read_text(encoding="utf-8")
    plan.write_text(text + '\n[cast]\ncomparison = ["Foxglove 21", "Foxglove 22"]\n', "utf-8")
    done = CliRunner().invoke(main, ["finder", str(plan), "--out", str(chart), "--width", "10"])
    assert done.exit_code == 0, done.output
    assert re.search("10′ × 10′", done.output)
    assert chart.read_text(encoding="utf-8").startswith("<?xml")
    wrong = CliRunner().invoke(main, ["finder", str(plan), "--out", str(tmp_path / "a.jpg")])
    assert wrong.exit_code == 2
