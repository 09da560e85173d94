"""The functions for notebooks, by the notebook that shows them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.wcs import WCS

import narrow_beacon as nb
import python_reference
from narrow_beacon.core.errors import CatalogueError, NotPlacedError

_NOTEBOOK = Path(__file__).parents[2] / "docs" / "notebooks" / "a-night.ipynb"


@pytest.fixture(scope="module")
def walked(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Any]:
    """What the notebook's cells leave behind, run one after the other."""
    names: dict[str, Any] = {}
    with pytest.MonkeyPatch.context() as patch:
        patch.chdir(tmp_path_factory.mktemp("notebook"))
        for cell in json.loads(_NOTEBOOK.read_text(encoding="utf-8"))["cells"]:
            if cell["cell_type"] == "code":
                assert cell["outputs"] == []
                exec("".join(cell["source"]), names)
        names["night"].light_curve, names["night"].exposures
    return names


def test_the_notebook_s_two_ways_agree(walked: dict[str, Any]) -> None:
    noise = float(np.median(walked["curve"]["uncertainty"].value))
    assert len(walked["curve"]) == len(walked["night"].light_curve) == 30
    # The same counts, but for the plan's defect map and airmass: a quarter of the noise.
    assert np.std(walked["away"]) < 0.25 * noise
    assert abs(np.mean(walked["away"])) < 0.25 * noise
    assert walked["found"][0]["period"].value == pytest.approx(0.4137, rel=1e-3)


def test_a_solution_is_what_astropy_makes_of_it(walked: dict[str, Any]) -> None:
    solved = walked["solved"]
    wcs = solved.wcs
    assert isinstance(wcs, WCS)
    ra, dec = (np.asarray(v) for v in solved.solution.sky(np.array([100.0]), np.array([40.0])))
    assert wcs.all_pix2world(100.0, 40.0, 0) == pytest.approx([ra[0], dec[0]], abs=1e-6)
    middle = wcs.pixel_to_world(255.5, 191.5)
    row = next(one for one in walked["night"].exposures if one["kind"] == "exposure")
    assert middle.ra.deg == pytest.approx(row["ra_deg"], abs=3e-4)
    assert middle.dec.deg == pytest.approx(row["dec_deg"], abs=2e-4)


def test_pixels_that_say_nothing_and_full_ones_are_flagged(walked: dict[str, Any]) -> None:
    pixels, stars, kit = walked["pixels"].copy(), walked["stars"], dict(walked["kit"])
    table = walked["first"].table
    bright = table[np.argsort(-table["peak"])][:2]
    (x0, y0), (x1, y1) = ((round(r["x"]), round(r["y"])) for r in bright)
    pixels[y0, x0 + 1] = np.nan
    kit["linear_limit_adu"] = float(pixels[y1, x1]) - 1.0
    made = nb.measure(pixels, walked["placed"], stars, exposure_s=60.0, **kit).table
    flags = dict(zip(made["star"], made["flags"], strict=True))
    assert "bad pixel" in flags[bright[0]["star"]]
    assert "saturated" in flags[bright[1]["star"]]


def test_what_can_t_be_done_is_said(walked: dict[str, Any]) -> None:
    pixels, stars, solved = walked["pixels"], walked["stars"], walked["solved"]
    with pytest.raises(ValueError, match="an image is"):
        nb.solve(np.zeros((2, 30, 30)), stars)
    with pytest.raises(NotPlacedError, match="too few"):
        nb.solve(np.random.default_rng(1).normal(90, 9, (200, 200)), stars)
    untimed = nb.measure(pixels, solved, stars, exposure_s=60.0, **walked["kit"])
    with pytest.raises(ValueError, match="needs its time"):
        nb.curve([untimed], stars, "Foxglove 7", band="V")
    with pytest.raises(CatalogueError, match="no star"):
        nb.curve(walked["measures"], stars, "Larkspur 1", band="V")
    with pytest.raises(AttributeError, match="has no attribute"):
        _ = nb.polish


def test_extrema_come_with_their_uncertainty() -> None:
    rng = np.random.default_rng(8)
    days = np.linspace(0.0, 0.2, 120)
    light = 12.0 + 0.4 * np.exp(-(((days - 0.1) / 0.02) ** 2)) + rng.normal(0, 0.005, days.size)
    found = nb.extrema(days, light, np.full(days.size, 0.005))
    (dip,) = [row for row in found if row["kind"] == "minimum"]
    assert abs(dip["time"].value - 0.1) < 4 * dip["uncertainty"].value


def test_the_reference_is_what_the_docstrings_say() -> None:
    assert python_reference.PAGE.read_text(encoding="utf-8") == python_reference.reference()
