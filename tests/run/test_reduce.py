"""Whole nights through the command line: right numbers, right states, clear words."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from astropy.io import fits
from click.testing import CliRunner, Result

from narrow_beacon.bench.compare import numbers, read_csv, score_night
from narrow_beacon.cli import main
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce.walk import Silent, scratch_walk
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.plain import plain_sky, write_plain_night

OUTPUTS = {
    "light_curve.csv", "light_curve.ecsv", "light_curve.vot", "light_curve.fits",
    "light_curve.svg", "exposures.csv",
    "census.parquet", "report.txt", "provenance.json", "stars.csv", "sequence.csv",
    "extinction.csv", "masters",
}  # fmt: skip


def reduce(plan: Path, *options: str) -> Result:
    return CliRunner().invoke(main, ["reduce", str(plan), *options])


def hashes(folder: Path) -> dict[str, str]:
    return {
        str(path): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
    }


@pytest.fixture(scope="module")
def night(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A plain night, small but whole: 24 exposures of 512 × 384."""
    folder = tmp_path_factory.mktemp("night")
    write_plain_night(folder, 3, exposures=24, shape=(384, 512), density=9000.0)
    return folder


@pytest.fixture
def variant(night: Path, tmp_path: Path) -> Callable[..., Path]:
    """The night under another plan; raw files are linked, not copied."""

    def make(change: Callable[[str], str] = str, without: str = "") -> Path:
        (tmp_path / "raw").mkdir()
        for path in (night / "raw").rglob("*.fits"):
            if not without or without not in path.name:
                (tmp_path / "raw" / path.name).symlink_to(path)
        shutil.copy(night / "field.vot", tmp_path)
        (tmp_path / "plan.toml").write_text(change((night / "plan.toml").read_text()))
        return tmp_path / "plan.toml"

    return make


def test_a_plain_night_is_measured_right_and_the_raw_files_stay_as_they_were(night: Path) -> None:
    before = hashes(night / "raw")
    result = reduce(night / "plan.toml", "--workers", "1")
    assert result.exit_code == 0, result.output
    assert hashes(night / "raw") == before
    assert {path.name for path in (night / "out").iterdir()} == OUTPUTS
    score = score_night(night)
    assert score.points == score.placed == 24
    # 4 to 10 stars of 3 mmag each fix the common offset.
    assert score.median_error_mag < 0.005
    # 24 points: the scatter is known to 14%, χ² to 0.29.
    assert 0.7 < score.scatter_over_predicted < 1.3
    assert 0.4 < score.check_chi2 < 1.7
    assert score.worst_position_px < 0.2
    assert score.worst_jd_s < 1e-3


def test_a_night_sheet_is_written_where_the_plan_asks_for_it(variant: Callable[..., Path]) -> None:
    plan = variant(lambda text: text.replace('folder = "out"', 'folder = "out"\nsheet = true'))
    assert reduce(plan, "--workers", "1").exit_code == 0
    out = plan.parent / "out"
    assert "How it was measured" in (out / "night_sheet.html").read_text(encoding="utf-8")
    assert (out / "night_sheet.pdf").read_bytes().startswith(b"%PDF")
    # Asked for no more, it does not stay beside other numbers.
    plan.write_text(plan.read_text().replace("sheet = true", ""))
    assert reduce(plan, "--workers", "1").exit_code == 0
    assert not list(out.glob("night_sheet.*"))


def test_what_was_written_is_read_again(night: Path) -> None:
    reduce(night / "plan.toml", "--workers", "1")
    out = night / "out"
    again = CliRunner().invoke(main, ["report", str(out), "--layout", "plain"])
    assert again.exit_code == 0, again.output
    kept = (out / "report.txt").read_text(encoding="utf-8").splitlines()
    assert len(again.stdout.splitlines()) == len(kept)
    for line, own in zip(again.stdout.splitlines(), kept, strict=True):
        if own.startswith("#") or "filter" in own:
            assert line == own
            continue
        # The table's decimals are rounded once more: the last digit may be another.
        for a, b in zip(line.split(), own.split(), strict=True):
            if a != b:
                digit = 10.0 ** -len(b.partition(".")[2])
                assert float(a) == pytest.approx(float(b), abs=1.01 * digit)
    (night / "each.toml").write_text(
        'rows = "comparison"\ntitles = false\nseparator = "|"\n'
        + "".join(
            f'[[column]]\nvalue = "{name}"\ndigits = 5\n'
            for name in ("magnitude", "instrumental", "comparison_known", "comparison_instrumental")
        )
    )
    each = CliRunner().invoke(main, ["report", str(out), "--layout", str(night / "each.toml")])
    rows = np.array([[float(cell) for cell in line.split("|")] for line in each.stdout.split()])
    stars_used = json.loads((out / "provenance.json").read_text())["comparison"]
    assert len(rows) == len(stars_used) * len(read_csv(out / "light_curve.csv"))
    target, own, known, its = rows.T
    assert target == pytest.approx(own - its + known, abs=3e-5)
    told = CliRunner().invoke(main, ["survey", str(out), "--least", "0", "--json"])
    assert told.exit_code == 0, told.output
    stars = json.loads(told.stdout)
    keys = {"star", "filter", "magnitude", "scatter_mag", "expected_mag", "significance"}
    assert all(set(one) == {*keys, "period_d"} for one in stars)
    field = {row["star"]: float(row["magnitude"]) for row in read_csv(out / "stars.csv")}
    assert len(stars) > 20
    # The zero points of the exposures are the same, so are the stars' magnitudes.
    off = [one["magnitude"] - field[one["star"]] for one in stars]
    assert abs(np.median(off)) < 0.003
    assert sum(one["significance"] >= 5 for one in stars) <= 2  # the target and a neighbour


def test_two_workers_give_the_same_numbers_bit_for_bit(
    night: Path, variant: Callable[..., Path]
) -> None:
    plan = variant()
    texts = []
    for workers in ("1", "2"):
        assert reduce(plan, "--workers", workers).exit_code == 0
        folder = plan.parent / "out"
        names = (
            "light_curve.csv",
            "exposures.csv",
            "provenance.json",
            "census.parquet",
            "light_curve.svg",
            "stars.csv",
        )
        texts.append([(folder / name).read_bytes() for name in names])
    assert texts[0] == texts[1]


def test_every_number_knows_where_it_came_from(night: Path) -> None:
    reduce(night / "plan.toml", "--workers", "1")
    document = json.loads((night / "out" / "provenance.json").read_text())
    curve = read_csv(night / "out" / "light_curve.csv")
    used = {item["name"] for item in document["comparison"]}
    assert len(used) >= 3
    assert sum(item["weight"] for item in document["comparison"]) == pytest.approx(1, abs=1e-4)
    assert document["check"] not in used
    sums = {item["file"]: item["sha256"] for item in document["inputs"]}
    for path in (night / "raw").rglob("*.fits"):
        assert (
            sums[f"raw/{path.relative_to(night / 'raw')}"]
            == hashlib.sha256(path.read_bytes()).hexdigest()
        )
    exposure = document["exposures"][curve[0]["exposure"]]
    assert exposure["read_from"]["time_utc"] == "DATE-OBS"
    assert exposure["placement"]["false_chance_log10"] < -9
    assert {len(master["inputs"]) for master in document["masters"]} == {12}
    # The zero point and the instrumental magnitude add up, and the census holds the counts.
    for row in curve:
        assert float(row["magnitude"]) == pytest.approx(
            float(row["instrumental"]) + float(row["zero_point"]), abs=2e-5
        )
    census = pq.read_table(night / "out" / "census.parquet").to_pylist()
    target = [row for row in census if row["star"] == document["target"]]
    assert len(target) == len(curve)
    for row, point in zip(target, curve, strict=True):
        step = int(np.argmin(np.abs(np.array(row["radius_px"]) - float(point["radius_px"]))))
        instrumental = -2.5 * np.log10(row["counts_adu"][step] / 60.0)
        assert instrumental == pytest.approx(float(point["instrumental"]), abs=2e-5)


def test_no_hint_of_scale_or_target_position_is_needed(variant: Callable[..., Path]) -> None:
    plan = variant(lambda text: text.replace("scale_arcsec_per_px = 1.16\n", ""))
    assert reduce(plan).exit_code == 0


def test_a_fixed_radius_is_kept(variant: Callable[..., Path]) -> None:
    plan = variant(lambda text: text + "[measure]\nradius = 4.2\n")
    assert reduce(plan).exit_code == 0
    radii = numbers(read_csv(plan.parent / "out" / "light_curve.csv"), "radius_px")
    assert np.allclose(radii, 4.2, atol=1e-3)


def test_a_radius_in_widths_follows_the_stars(variant: Callable[..., Path]) -> None:
    plan = variant(lambda text: text + '[measure]\nradius = "1.5 fwhm"\n')
    assert reduce(plan).exit_code == 0
    rows = read_csv(plan.parent / "out" / "light_curve.csv")
    assert np.allclose(numbers(rows, "radius_px") / numbers(rows, "fwhm_px"), 1.5, rtol=2e-3)


def test_the_catalogue_may_come_from_a_service(night: Path, variant: Callable[..., Path]) -> None:
    with ConeService(night / "field.vot") as service:
        plan = variant(
            lambda text: text.replace('file = "field.vot"', f'cone = "{service.url}"').replace(
                "[target]\n", "[target]\nra = 341.2\ndec = 41.6\n"
            )
        )
        assert reduce(plan).exit_code == 0
    refused = reduce(plan)
    assert refused.exit_code == 2
    assert "plan.toml:" in refused.output
    assert "cannot be reached" in refused.output


def test_masters_of_an_earlier_night_are_used_again(
    night: Path, variant: Callable[..., Path]
) -> None:
    reduce(night / "plan.toml", "--workers", "1")
    plan = variant(
        lambda text: text.replace(
            'folder = "raw"', f'folder = "raw"\nlibrary = "{night / "out" / "masters"}"'
        ),
        without="dark-",
    )
    for path in (plan.parent / "raw").glob("*"):
        if path.name.startswith(("bias", "flat")):
            path.unlink()
    assert reduce(plan).exit_code == 0
    document = json.loads((plan.parent / "out" / "provenance.json").read_text())
    assert len(next(iter(document["chains"].values()))["masters"]) == 2
    first = numbers(read_csv(night / "out" / "light_curve.csv"), "magnitude")
    again = numbers(read_csv(plan.parent / "out" / "light_curve.csv"), "magnitude")
    assert np.allclose(first, again, atol=1e-5)


def test_a_plan_s_masters_are_taken_and_a_slip_in_their_place_is_said(
    night: Path, variant: Callable[..., Path]
) -> None:
    reduce(night / "plan.toml", "--workers", "1")
    (chain,) = json.loads((night / "out" / "provenance.json").read_text())["chains"]
    words = '\n[masters."%s"]\nflat = "none"\n'
    plan = variant(lambda text: text + words % chain + words % "of no such night")
    result = reduce(plan)
    assert result.exit_code == 0, result.output
    (built,) = json.loads((plan.parent / "out" / "provenance.json").read_text())["chains"].values()
    assert not any("flat" in name for name in built["masters"])
    assert "masters are picked for of no such night" in result.output
    assert chain in result.output


def test_without_calibration_frames_the_night_is_still_measured_and_says_so(
    variant: Callable[..., Path],
) -> None:
    plan = variant()
    for path in (plan.parent / "raw").glob("*"):
        if not path.name.startswith("foxglove"):
            path.unlink()
    result = reduce(plan)
    assert result.exit_code == 0
    assert "neither dark nor bias" in result.output
    assert "not flat-fielded" in result.output


def test_an_unusable_plan_gives_status_2_and_a_line_for_each_mistake(
    variant: Callable[..., Path],
) -> None:
    plan = variant(
        lambda text: text.replace('name = "Foxglove 7"', 'name = "Foxgluve 7"').replace(
            "aperture_m", "apertur"
        )
    )
    result = reduce(plan)
    assert result.exit_code == 2
    assert len(result.output.strip().splitlines()) == 2


def spoiled(plan: Path) -> dict[str, str]:
    return {row["file"]: row["reason"] for row in read_csv(plan.parent / "out" / "exposures.csv")}


def test_an_empty_folder_gives_status_3_and_says_what_to_do(variant: Callable[..., Path]) -> None:
    plan = variant()
    for path in (plan.parent / "raw").glob("*"):
        path.unlink()
    result = reduce(plan)
    assert result.exit_code == 3
    assert "no files below" in result.output
    assert not (plan.parent / "out" / "light_curve.csv").exists()


def test_a_catalogue_of_another_field_gives_status_3_with_reasons(
    variant: Callable[..., Path],
) -> None:
    plan = variant()
    few = sorted((plan.parent / "raw").glob("foxglove-*.fits"))
    for path in few[2:]:  # that there is none takes the solver longest
        path.unlink()
    other = plain_sky(99, 0.3)
    other.ra_deg = other.ra_deg + 40.0
    other.write_votable(plan.parent / "field.vot")
    result = reduce(plan)
    assert result.exit_code == 3
    reasons = [r for name, r in spoiled(plan).items() if "foxglove" in name]
    assert len(reasons) == 2
    assert all(reason.startswith("unplaceable: no acceptable solution") for reason in reasons)


def test_unreadable_files_are_listed_and_the_rest_goes_on(variant: Callable[..., Path]) -> None:
    plan = variant()
    (plan.parent / "raw" / "broken.fits").write_bytes(
        b"SIMPLE  =                    T" + bytes(100)
    )
    (plan.parent / "raw" / "secret.fits").symlink_to(plan.parent / "nowhere")
    result = reduce(plan)
    assert result.exit_code == 0
    assert "its header has no end" in spoiled(plan)["raw/broken.fits"]


def test_a_target_that_the_catalogue_lacks_is_measured_at_its_position(
    night: Path, variant: Callable[..., Path]
) -> None:
    plan = variant(
        lambda text: text.replace(
            'name = "Foxglove 7"', 'name = "Newcomer"\nra = 341.2\ndec = 41.6'
        )
    )
    lines = (plan.parent / "field.vot").read_text().splitlines(keepends=True)
    here = next(n for n, line in enumerate(lines) if "<TD>Foxglove 7</TD>" in line)
    lines[here + 1] = lines[here + 1].replace("341.2", "341.9")
    (plan.parent / "field.vot").write_text("".join(lines))
    result = reduce(plan)
    assert result.exit_code == 0, result.output
    assert "no star within 3″ of the target's position" in result.output
    curve = read_csv(plan.parent / "out" / "light_curve.csv")
    truth = json.loads((night / "truth.json").read_text())
    true = {f"raw/{item['file']}": item["target_mag"] for item in truth["exposures"]}
    error = numbers(curve, "magnitude") - [true[row["exposure"]] for row in curve]
    assert abs(np.median(error)) < 0.006


def test_a_night_of_three_exposures_and_one_comparison_star_is_measured(
    variant: Callable[..., Path],
) -> None:
    plan = variant(
        lambda text: text + '[cast]\ncomparison = ["Foxglove 21"]\ncheck = "Foxglove 22"\n'
    )
    for path in (plan.parent / "raw").glob("foxglove-*"):
        if path.name > "foxglove-003.fits":
            path.unlink()
    result = reduce(plan)
    assert result.exit_code == 0, result.output
    curve = read_csv(plan.parent / "out" / "light_curve.csv")
    assert len(curve) == 3
    assert np.isfinite(numbers(curve, "check_magnitude")).all()


def test_the_site_may_come_from_the_headers(tmp_path: Path, variant: Callable[..., Path]) -> None:
    from astropy.io import fits

    plan = variant(lambda text: text[: text.index("[site]")] + text[text.index("[kit]") :])
    for path in sorted((plan.parent / "raw").glob("foxglove-*"))[:6]:
        source = path.resolve()
        path.unlink()
        with fits.open(source) as hdus:
            header, data = hdus[0].header, hdus[0].data
        header["SITELAT"], header["SITELONG"] = "+61 12 00", "-09 24 00"
        fits.PrimaryHDU(data, header).writeto(path)
    result = reduce(plan)
    assert result.exit_code == 0, result.output
    assert "taken from the headers (SITELAT, SITELONG)" in result.output
    airmass = numbers(read_csv(plan.parent / "out" / "light_curve.csv"), "airmass")
    assert ((airmass > 1) & (airmass < 2)).all()


class Counted(Silent):
    """Progress, step by step: how much there is of each, and how much of it is done."""

    def __init__(self) -> None:
        self.steps: list[list[int]] = []

    def start(self, words: str, total: int, done: int = 0) -> None:
        self.steps.append([total, done])

    def advance(self, count: int = 1) -> None:
        self.steps[-1][1] += count


def test_no_step_is_more_than_done_where_exposures_are_of_two_lengths(tmp_path: Path) -> None:
    write_plain_night(tmp_path, 3, exposures=4, shape=(200, 200), calibration=5)
    longer = sorted((tmp_path / "raw").glob("foxglove-*.fits"))[-1]
    with fits.open(longer, mode="update") as hdus:
        keyword = next(k for k in ("EXPTIME", "EXPOSURE") if k in hdus[0].header)
        hdus[0].header[keyword] *= 2.0
    told = Counted()
    with scratch_walk(read_plan(tmp_path / "plan.toml"), 1, told) as walk:
        walk.to("chains")
    # What can't be counted beforehand has a total of none.
    assert all(done == total for total, done in told.steps if total)
    assert [2, 2] in told.steps
