"""What is handed in: the same numbers in every form, by the layout that was asked for."""

from __future__ import annotations

import contextlib
import csv
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from astropy.io.votable import parse_single_table
from astropy.table import Table

from builders import star_table
from narrow_beacon.core.curve.light_curve import DOUBTFUL
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.report.census import MeasuredExposure, write_census
from narrow_beacon.core.report.exposures import ExposureRow, write_exposures
from narrow_beacon.core.report.layout import LayoutError, read_layout, render_report, reported
from narrow_beacon.core.report.light_curve import COLUMNS, CurvePoint, write_light_curve
from narrow_beacon.core.report.provenance import write_provenance
from narrow_beacon.reduce.figure import draw_light_curve

POINT = CurvePoint(
    "night/a.fits", "V", 2461326.354166667, 2461326.358, 2461326.3589, 1.1234, 12.34567, 0.0045,
    12.5, 0.0044, -7.6, 19.9, 0.0012, 3.01, 95.2, 4.95, "bad pixel;thin cloud",
)  # fmt: skip
POINTS = [
    POINT,
    replace(POINT, exposure="b, c.fits", jd_utc=2461327.4, check_magnitude=math.nan, flags=""),
]


def test_all_three_tables_hold_the_same_numbers(tmp_path: Path) -> None:
    write_light_curve(POINTS, tmp_path)
    with (tmp_path / "light_curve.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert tuple(rows[0]) == COLUMNS
    ecsv = Table.read(tmp_path / "light_curve.ecsv", format="ascii.ecsv")
    votable = parse_single_table(tmp_path / "light_curve.vot")
    for name in COLUMNS:
        for row, (text, a, b) in enumerate(
            zip([r[name] for r in rows], ecsv[name], votable.array[name], strict=True)
        ):
            value = getattr(POINTS[row], name)
            if isinstance(value, str):
                assert text == ("" if a is np.ma.masked else str(a)) == str(b) == value
            elif math.isnan(value):
                assert text == ""
                assert a is np.ma.masked or math.isnan(a)
                assert b is np.ma.masked or math.isnan(b)
            else:
                assert float(text) == pytest.approx(value, rel=1e-12, abs=6e-6)
                assert float(text) == a == b
    assert ecsv["jd_utc"].unit == "d"
    ucds = {field.name: field.ucd for field in votable.fields}
    assert ucds["magnitude"] == "phot.mag"
    assert ucds["uncertainty"] == "stat.error;phot.mag"


def test_times_are_written_to_a_tenth_of_a_millisecond(tmp_path: Path) -> None:
    write_light_curve([POINT], tmp_path)
    written = float((tmp_path / "light_curve.csv").read_text().splitlines()[1].split(",")[2])
    assert abs(written - POINT.jd_utc) * 86400 < 1e-4


def test_exposures_table_leaves_unknown_values_empty(tmp_path: Path) -> None:
    rows = [
        ExposureRow(
            "a.fits", "exposure", "V", 2461326.5, 60.0, "measured", "", mirrored=False, stars=12
        ),
        ExposureRow("n.txt", "", "", None, None, "left out", "not a FITS file"),
    ]
    write_exposures(rows, tmp_path / "e.csv")
    with (tmp_path / "e.csv").open(newline="") as file:
        read = list(csv.DictReader(file))
    assert read[0]["mirrored"] == "false"
    assert read[0]["stars"] == "12"
    assert read[1]["reason"] == "not a FITS file"
    assert read[1]["jd_utc"] == ""


def test_the_census_is_sorted_by_star_then_time_with_pixels_from_one(tmp_path: Path) -> None:
    table = star_table(4)
    rng = np.random.default_rng(0)

    def measured(name: str, jd: float, rows: list[int]) -> MeasuredExposure:
        n = len(rows)
        census = ExposureCensus(
            np.array(rows), np.array(rows, float), np.zeros(n), np.ones(n), np.ones(n),
            np.array([2.0, 4.0]), rng.random((n, 2)) + np.array(rows)[:, None], np.ones((n, 2)),
            np.where(np.arange(9) == 1, 3.0, np.inf) * np.ones((n, 1)), np.zeros((n, 2)),
            np.zeros((n, 2)), np.array([1.3, 1.0]),
        )  # fmt: skip
        return MeasuredExposure(name, "V", jd, 4.0, census)

    exposures = [measured("late", 2.0, [0, 1, 3]), measured("early", 1.0, [1, 2, 3])]
    write_census(exposures, table, tmp_path / "c.parquet")
    rows = pq.read_table(tmp_path / "c.parquet").to_pylist()
    assert [(row["star"], row["exposure"]) for row in rows] == [
        ("Sorrel 1", "late"), ("Sorrel 2", "early"), ("Sorrel 2", "late"), ("Sorrel 3", "early"),
        ("Sorrel 4", "early"), ("Sorrel 4", "late"),
    ]  # fmt: skip
    assert rows[0]["x_px"] == 1.0
    assert rows[0]["flags"] == 2  # bad pixel from 3 px, at a radius of 4
    assert rows[4]["radius_px"] == [2.0, 4.0]
    assert np.floor(rows[4]["counts_adu"]).tolist() == [3, 3]


def test_a_report_follows_its_layout(tmp_path: Path) -> None:
    (tmp_path / "society.toml").write_text(
        'header = ["STAR={target}", "KEEP={other}"]\nseparator = "|"\ntitles = false\n'
        '[[column]]\nvalue = "magnitude"\ndigits = 3\n[[column]]\ntext = "na"\n'
        '[[column]]\nvalue = "check_magnitude"\ndigits = 2\nmissing = "-99"\n'
    )
    layout = read_layout("society.toml", tmp_path)
    given = [
        *POINTS, replace(POINT, magnitude=math.nan), replace(POINT, magnitude=9.0, state=DOUBTFUL)
    ]  # fmt: skip
    text = render_report(layout, reported(given, doubtful=False), {"target": "Sorrel 1"})
    assert reported(given, doubtful=True) == [*POINTS, given[-1]]
    assert text.splitlines() == [
        "STAR=Sorrel 1",
        "KEEP={other}",
        "12.346|na|12.50",
        "12.346|na|-99",
    ]
    plain = render_report(read_layout("plain", tmp_path), POINTS, {"target": "Sorrel 1"})
    assert "12.3457" in plain


def test_a_layout_with_mistakes_names_them_all(tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_text('[[column]]\nvalue = "colour"\n[[column]]\ntitle = "x"\n')
    with pytest.raises(LayoutError, match=r"column 1: no value “colour”.*column 2: give either"):
        read_layout("bad.toml", tmp_path)
    with pytest.raises(LayoutError, match=r"one of ours \(plain, standard\)"):
        read_layout("fancy", tmp_path)


@pytest.mark.parametrize(
    "value",
    ["true", "-1", "1e400", "nan", '"\\u0000\\n"', f'"{"x" * 5000}"', "[]", "[[1]]", "{}", "99999"],
)
@pytest.mark.parametrize(
    "key",
    [
        "name",
        "header",
        "separator",
        "titles",
        "column",
        *(f"c.{key}" for key in ("value", "text", "title", "digits", "missing", "width")),
    ],
)
def test_nonsense_in_a_layout_is_a_mistake_or_a_layout(
    tmp_path: Path, key: str, value: str
) -> None:
    own = key.removeprefix("c.")
    column = "" if key == "column" else '[[column]]\nvalue = "magnitude"\n'
    path = tmp_path / "l.toml"
    path.write_text(f"{column}{own} = {value}\n" if own != key else f"{own} = {value}\n{column}")
    with contextlib.suppress(LayoutError):
        layout = read_layout("l.toml", tmp_path)
        assert render_report(layout, POINTS, {"target": "a"}).endswith("\n")


def test_the_figure_is_the_same_for_the_same_curve(tmp_path: Path) -> None:
    for name in ("a.svg", "b.svg"):
        draw_light_curve(POINTS, "Sorrel 1", "Sorrel 2", tmp_path / name)
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()
    assert (
        "Sorrel 1" in (tmp_path / "a.svg").read_text()
        or "<path" in (tmp_path / "a.svg").read_text()
    )


def test_provenance_is_plain_json(tmp_path: Path) -> None:
    write_provenance(
        {"a": np.float32(1.5), "b": [math.nan, Path("x")], "c": (np.int64(3),)}, tmp_path / "p"
    )
    assert (tmp_path / "p").read_text().split() == [
        *("{", '"a":', "1.5,", '"b":', "[", "null,", '"x"', "],", '"c":', "[", "3", "]", "}")
    ]
