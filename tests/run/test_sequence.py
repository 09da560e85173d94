"""A society's sequence laid over the catalogue: its names and magnitudes, its stars preferred."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from builders import star_table
from narrow_beacon.bench.compare import numbers, read_csv
from narrow_beacon.cli import main
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.sequence import StarSequence, overlay
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.plan import PlanError, read_plan
from narrow_beacon.simulate.plain import write_plain_night

SHIFT_MAG = 0.25


@pytest.fixture(scope="module")
def night(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("night")
    write_plain_night(folder, 4, exposures=10, shape=(320, 448), density=14000.0, calibration=4)
    return folder


def write_table(night: Path, stars: StarTable, rows: list[int]) -> list[str]:
    """A sequence of stars that the society has SHIFT_MAG fainter, with columns of its own, and one
    star that is nowhere; its names.
    """
    lines = ["Label,RA_J2000,DE_J2000,Vmag,Vmag_err,remark"]
    names = [f"L{n + 101}" for n in range(len(rows))]
    for name, row in zip(names, rows, strict=True):
        mag = stars.bands["V"].magnitude[row] + SHIFT_MAG
        # Half a second of arc off, as such tables are.
        ra = stars.ra_deg[row] + 0.5 / 3600
        lines.append(f"{name},{ra:.5f},{stars.dec_deg[row]:.5f},{mag:.2f},0.010,x")
    lines.append(f"L999,{stars.ra_deg[0] + 0.5:.5f},{stars.dec_deg[0]:.5f},11.11,0.01,x")
    (night / "sequence.csv").write_text("\n".join(lines) + "\n")
    return names


def test_the_sequences_stars_are_taken_by_its_names_and_magnitudes(night: Path) -> None:
    plan = night / "fixed.toml"  # the same radius in both
    plan.write_text((night / "plan.toml").read_text() + "[measure]\nradius = 4.5\n")
    assert CliRunner().invoke(main, ["reduce", str(plan)]).exit_code == 0
    alone = read_csv(night / "out" / "light_curve.csv")
    told = json.loads((night / "out" / "provenance.json").read_text())
    stars = read_catalogue(night / "field.vot")
    # Not those that the program prefers, but good ones all the same.
    chosen = {star["name"] for star in told["comparison"]} | {told["check"]}
    target = float(np.median(numbers(alone, "magnitude")))
    serving = [
        stars.row(star["star"])
        for star in read_csv(night / "out" / "stars.csv")
        if star["points"] == "10"
        and abs(float(star["neighbour_mag"] or 0)) < 0.01
        and -2.0 < float(star["catalogue_magnitude"] or 99) - target < 1.2
        and star["known_variable"] == "0"
    ]
    # Half of those that the program takes, and others that it does not.
    rows = [row for row in serving if stars.names[row] in chosen][:3]
    rows += [row for row in serving if stars.names[row] not in chosen][:4]
    names = write_table(night, stars, rows)
    with_it = night / "with.toml"
    with_it.write_text(plan.read_text() + '[sequence]\nfile = "sequence.csv"\nchart = "NB 7"\n')
    done = CliRunner().invoke(main, ["reduce", str(with_it)])
    assert done.exit_code == 0, done.output
    curve = read_csv(night / "out" / "light_curve.csv")
    told = json.loads((night / "out" / "provenance.json").read_text())
    used = {star["name"] for star in told["comparison"]} | {told["check"]}
    assert used <= set(names)
    assert len(used) >= 4
    # The whole scale is the society's.
    moved = numbers(curve, "magnitude") - numbers(alone, "magnitude")
    assert np.median(moved) == pytest.approx(SHIFT_MAG, abs=0.012)
    # The same pixels were summed.
    assert np.allclose(numbers(curve, "instrumental"), numbers(alone, "instrumental"), atol=2e-5)
    assert told["sequence"]["chart"] == "NB 7"
    said = " ".join(told["remarks"])
    assert "L999" in said
    assert "differ in V" in said
    # What is written as one's own reads back as the same sequence.
    own = read_catalogue(night / "out" / "sequence.csv")
    assert set(own.names) == used
    for name in own.names:
        known = stars.bands["V"].magnitude[rows[names.index(name)]] + SHIFT_MAG
        assert own.bands["V"].magnitude[own.row(name)] == pytest.approx(known, abs=6e-3)
        assert own.bands["V"].uncertainty[own.row(name)] == pytest.approx(0.010)
    # A cast may be named by either name.
    text = with_it.read_text() + f'[cast]\ncomparison = ["{names[0]}", "{stars.names[rows[1]]}"]\n'
    (night / "named.toml").write_text(text)
    assert read_plan(night / "named.toml").comparison[0] == names[0]


def test_a_sequence_star_is_the_near_one_of_like_brightness() -> None:
    stars = star_table(3, magnitude=np.array([12.0, 15.5, 13.0]))
    # Two stars 3″ apart: the sequence's position lies nearer to the faint one.
    stars.ra_deg[:] = [100.0, 100.0, 100.1]
    stars.dec_deg[:] = [20.0, 20.0 + 3 / 3600, 20.0]
    own = star_table(2, magnitude=np.array([12.1, 9.0]))
    own.ra_deg[:] = [100.0, 100.1]
    own.dec_deg[:] = [20.0 + 2 / 3600, 20.0]
    laid = overlay(stars, StarSequence(own, "NB 7"))
    assert laid.rows == (0, -1)  # the other is 4 mag off: not that star
    assert laid.stars.bands["V"].magnitude[0] == 12.1
    assert laid.stars.listed is not None
    assert laid.stars.listed.tolist() == [True, False, False]
    assert laid.stars.find(stars.names[0]) == 0


def test_a_band_that_only_the_sequence_has_can_be_measured_in(night: Path) -> None:
    stars = read_catalogue(night / "field.vot")
    lines = ["name,ra,dec,Imag,e_Imag"]
    for row in np.argsort(stars.bands["V"].magnitude)[20:60]:
        magnitude = stars.bands["V"].magnitude[row] - 0.7
        lines.append(
            f"{stars.names[row]},{stars.ra_deg[row]:.6f},{stars.dec_deg[row]:.6f},{magnitude:.3f},0.01"
        )
    (night / "red.csv").write_text("\n".join(lines) + "\n")
    plan = night / "red.toml"
    text = (night / "plan.toml").read_text()
    plan.write_text(text + '[sequence]\nfile = "red.csv"\n[bands]\n"V" = "I"\n')
    done = CliRunner().invoke(main, ["reduce", str(plan)])
    assert done.exit_code == 0, done.output


def test_a_table_that_is_no_sequence_is_told(night: Path) -> None:
    (night / "words.csv").write_text("a,b\n1,2\n")
    plan = night / "wrong.toml"
    plan.write_text((night / "plan.toml").read_text() + '[sequence]\nfile = "words.csv"\n')
    with pytest.raises(PlanError, match="right ascension"):
        read_plan(plan)
