"""What is handed in: the same numbers in every form, by the layout that was asked for."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from astropy.io import fits
from astropy.io.votable import parse, parse_single_table, validate
from astropy.table import Table
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from builders import star_table
from narrow_beacon.cli import main
from narrow_beacon.core.curve.light_curve import DOUBTFUL
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.report.census import MeasuredExposure, write_census
from narrow_beacon.core.report.exposures import ExposureRow, write_exposures
from narrow_beacon.core.report.layout import (
    LayoutError,
    parse_layout,
    read_layout,
    reported,
    shipped_layouts,
)
from narrow_beacon.core.report.light_curve import (
    COLUMNS,
    CurvePoint,
    write_fits,
    write_texts,
    write_votable,
)
from narrow_beacon.core.report.provenance import write_provenance
from narrow_beacon.core.report.render import Comparison, Facts, Stars, render_report
from narrow_beacon.reduce.again import facts_json
from narrow_beacon.reduce.figure import draw_light_curve

POINT = CurvePoint(
    "night/a.fits", "V", 2461326.354166667, 2461326.358, 2461326.3589, 1.1234, 12.34567, 0.0045,
    12.5, 0.0044, -7.6, 19.9, 0.0012, 3.01, 95.2, 4.95, "bad pixel;thin cloud",
)  # fmt: skip
POINTS = [
    POINT,
    replace(POINT, exposure='b, "c" #2.fits', jd_utc=2461327.4, check_magnitude=math.nan, flags=""),
]
FACTS = Facts(
    {"target": "Sorrel 1"},
    {("", "V"): Stars(("Sorrel 3", "Sorrel 4"), 12.1, "Sorrel 2", 12.503, "S 7")},
    {"observer": "Ada"},
)


def test_all_three_tables_hold_the_same_numbers(tmp_path: Path) -> None:
    write_texts(POINTS, tmp_path)
    write_votable(POINTS, tmp_path / "light_curve.vot")
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
    assert ecsv["jd_utc"].description == "Julian date of mid-exposure, UTC"
    assert ecsv["uncertainty"].meta["ucd"] == "stat.error;phot.mag"
    ucds = {field.name: field.ucd for field in votable.fields}
    assert ucds["magnitude"] == "phot.mag"
    assert ucds["uncertainty"] == "stat.error;phot.mag"


def test_times_are_written_to_a_tenth_of_a_millisecond(tmp_path: Path) -> None:
    write_texts([POINT], tmp_path)
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
    text = render_report(layout, reported(given, doubtful=False), FACTS)
    assert reported(given, doubtful=True) == [*POINTS, given[-1]]
    assert text.splitlines() == [
        "STAR=Sorrel 1",
        "KEEP={other}",
        "12.346|na|12.50",
        "12.346|na|-99",
    ]
    plain = render_report(read_layout("plain", tmp_path), POINTS, FACTS)
    assert "12.3457" in plain


def test_a_layout_with_mistakes_names_them_all(tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_text('[[column]]\nvalue = "colour"\n[[column]]\ntitle = "x"\n')
    with pytest.raises(LayoutError, match=r"column 1: no value “colour”.*column 2: give one of"):
        read_layout("bad.toml", tmp_path)
    both = 'rows = "comparison"\n[[column]]\npattern = "{colour} {filter}"\n'
    standard = '[[column]]\nvalue = "transformed_magnitude"\n'
    with pytest.raises(LayoutError, match=r"no value “colour”.*not on the standard scale"):
        parse_layout(both + standard, "both")
    with pytest.raises(LayoutError, match=r"one of ours \(comma, fixed, nightly"):
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
        *("footer", "rows", "quote", "line_end", "encoding", "limits", "filters", "fields"),
        *("actions", "ensemble"),
        *(f"c.{key}" for key in ("value", "text", "title", "digits", "missing", "width")),
        *(f"c.{key}" for key in ("align", "minus", "date", "words", "field", "limit", "pattern")),
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
        assert render_report(layout, POINTS, FACTS).endswith("\n")


@pytest.mark.parametrize("name", shipped_layouts())
def test_every_layout_of_ours_reports_every_point(name: str) -> None:
    layout = read_layout(name, Path())
    standard = [
        replace(p, transformed_magnitude=12.3, transformed_uncertainty=0.01) for p in POINTS
    ]
    text = render_report(layout, standard, FACTS)
    body = text.splitlines()[len(layout.header) + layout.titles :]
    assert len(body) - len(layout.footer) == len(POINTS)
    assert layout.said_of
    assert "Sorrel 1" in text or not layout.header
    assert text.encode(layout.encoding)


WIDE = """
separator = ";"
titles = false
quote = "needed"
line_end = "crlf"
encoding = "ascii"
limits = true
ensemble = "all of them"
[filters]
V = "Johnson V"
[fields]
observer = ""
[actions]
replace = "R"
add = "N"
[[column]]
value = "action"
[[column]]
value = "jd_utc"
minus = 2400000.5
digits = 4
[[column]]
value = "jd_utc"
date = "%d.%m.%Y %H:%M:%S"
digits = 1
[[column]]
value = "filter"
width = 10
align = "left"
[[column]]
value = "magnitude"
digits = "uncertainty"
missing = "99"
[[column]]
value = "comparison_name"
[[column]]
value = "check_known"
digits = 2
[[column]]
field = "observer"
[[column]]
value = "state"
words = { good = "0", doubtful = "?" }
"""


def test_a_layout_can_ask_for_what_societies_ask_for() -> None:
    layout = parse_layout(WIDE, "wide")
    unseen = replace(POINT, magnitude=math.nan, uncertainty=math.nan, limit_magnitude=14.237)
    points = [POINT, replace(POINT, exposure="b", uncertainty=0.2), unseen]
    facts = replace(
        FACTS, said={"observer": '=HYPERLINK("x");Ödön'}, actions={("b", "V"): "replace"}
    )
    assert reported(points, False, layout) == points
    text = render_report(layout, points, facts)
    lines = text.split("\r\n")
    assert lines[-1] == ""
    first, second, third = (next(csv.reader([line], delimiter=";")) for line in lines[:3])
    assert first == [
        "N", "61325.8542", "12.10.2026 20:30:00.0", "Johnson V ", "12.3457", "all of them", "12.50",
        "'=HYPERLINK(\"x\");?d?n", "0",
    ]  # fmt: skip
    assert second[0] == "R"
    assert second[4] == "12.35"  # two digits of ± 0.20
    assert third[4] == "<14.24"
    assert layout.missing_fields({}) == ["observer"]
    one = replace(FACTS, stars={("", "V"): Stars(("Sorrel 3",), 12.1)})
    assert "Sorrel 3" in render_report(layout, points, one)


def test_nightly_means_hold_the_scatter_of_their_points() -> None:
    layout = read_layout("nightly", Path())
    rng = np.random.default_rng(2)
    night = [
        replace(POINT, jd_utc=2461326.3 + 0.01 * n, magnitude=12.3 + rng.normal(0, 0.02),
                uncertainty=0.005)
        for n in range(16)
    ]  # fmt: skip
    line = render_report(layout, night, FACTS).splitlines()[-1].split()
    assert line[:1] == ["2026-10-12"]
    assert line[5] == "16"
    assert float(line[3]) == pytest.approx(12.3, abs=0.02)
    # 0.02 of scatter over √16, not the 0.00125 that the points claim.
    assert 0.003 < float(line[4]) < 0.008


def test_a_night_that_noon_at_greenwich_falls_into_is_one() -> None:
    night = [replace(POINT, jd_utc=2461326.9 + 0.05 * n) for n in range(6)]  # 9.6 to 15.6 h UT
    lines = {
        longitude: render_report(
            read_layout("nightly", Path()), night, replace(FACTS, longitude_deg=longitude)
        ).splitlines()[3:]
        for longitude in (150.0, 0.0)
    }
    assert [line.split()[0] for line in lines[150.0]] == ["2026-10-13"]
    assert [line.split()[0] for line in lines[0.0]] == ["2026-10-12", "2026-10-13"]


def test_a_night_of_nothing_but_limits_has_its_faintest() -> None:
    layout = parse_layout(
        'rows = "night"\nlimits = true\n[[column]]\nvalue = "magnitude"\ndigits = 1\n', "any"
    )
    unseen = replace(POINT, magnitude=math.nan, uncertainty=math.nan, flags="")
    night = [replace(unseen, limit_magnitude=limit) for limit in (14.2, 15.1, 14.8)]
    assert render_report(layout, night, FACTS).splitlines()[-1] == "<15.1"


def test_a_separator_within_a_name_shifts_no_number() -> None:
    layout = parse_layout(
        'titles = false\n[[column]]\nvalue = "target"\n[[column]]\nvalue = "magnitude"\n'
        'digits = 2\n[[column]]\ntext = "two,cells"\n[[column]]\npattern = "{target}, {filter}"',
        "any",
    )
    told = render_report(layout, [replace(POINT, target="Sorrel, 1")], FACTS)
    # What the layout itself says of its separator stays.
    assert told == "Sorrel  1,12.35,two,cells,Sorrel  1, V\n"


@given(
    points=st.lists(
        st.tuples(
            st.floats(2_400_000, 2_500_000), st.floats(-5, 30), st.floats(0.0001, 2.0),
            st.sampled_from(["V", 'a "b", c', "=1+1", "Ü"]),
        ),
        min_size=1, max_size=8,
    ),
    digits=st.integers(0, 6), separator=st.sampled_from([",", ";", "\t", "|"]),
    quote=st.sampled_from(["needed", "always"]), width=st.sampled_from([0, 12]),
)  # fmt: skip
def test_a_report_reads_back_at_its_precision(
    points: list[tuple[float, float, float, str]], digits: int, separator: str, quote: str,
    width: int,
) -> None:  # fmt: skip
    layout = parse_layout(
        f"separator = {json.dumps(separator)}\nquote = '{quote}'\ntitles = false\n"
        f'[[column]]\nvalue = "jd_utc"\ndigits = 6\n'
        f'[[column]]\nvalue = "magnitude"\ndigits = {digits}\n'
        f'[[column]]\nvalue = "filter"\nwidth = {width}\nalign = "left"\n', "any",
    )  # fmt: skip
    made = [
        replace(POINT, jd_utc=jd, magnitude=m, uncertainty=s, filter=name)
        for jd, m, s, name in points
    ]
    text = render_report(layout, made, FACTS)
    rows = list(csv.reader(io.StringIO(text), delimiter=separator))
    assert len(rows) == len(made)
    for row, point in zip(rows, made, strict=True):
        assert float(row[0]) == pytest.approx(point.jd_utc, abs=6e-7)
        assert float(row[1]) == pytest.approx(point.magnitude, abs=0.51 * 10.0**-digits)
        assert row[2].strip().removeprefix("'") == point.filter


def test_tables_say_which_time_is_what(tmp_path: Path) -> None:
    write_votable(POINTS, tmp_path / "light_curve.vot")
    write_fits(POINTS, tmp_path / "light_curve.fits")
    with fits.open(tmp_path / "light_curve.fits", checksum=True) as hdus:
        header, names = hdus[1].header, hdus[1].columns.names
        assert header["JDREF"] == 0.0
        at = names.index("bjd_tdb") + 1
        assert (header[f"TCTYP{at}"], header[f"TRPOS{at}"]) == ("TDB", "BARYCENTER")
        assert header[f"TUNIT{at}"] == "d"
        assert list(hdus[1].data["bjd_tdb"]) == [p.bjd_tdb for p in POINTS]
        hdus.verify("exception")
    told = validate(str(tmp_path / "light_curve.vot"), output=io.StringIO())
    assert told
    votable = parse(tmp_path / "light_curve.vot", verify="exception")
    assert votable.version == "1.4"
    field = next(f for f in votable.get_first_table().fields if f.name == "bjd_tdb")
    system = votable.get_timesys_by_id(field.ref)
    assert (system.timescale, system.refposition) == ("TDB", "BARYCENTER")


def test_a_folded_figure_is_drawn_from_what_a_reduction_wrote(tmp_path: Path) -> None:
    nothing = CliRunner().invoke(main, ["report", str(tmp_path), "--layout", "tab"])
    assert nothing.exit_code == 2
    assert "has no light_curve.csv" in nothing.output
    write_texts(POINTS, tmp_path)
    told = {"report": facts_json(FACTS)}
    (tmp_path / "provenance.json").write_text(json.dumps(told), encoding="utf-8")
    again = CliRunner().invoke(main, ["report", str(tmp_path), "--layout", "comma"])
    assert again.exit_code == 0, again.output
    kept = render_report(read_layout("comma", Path()), POINTS, FACTS)
    assert again.stdout.splitlines() == kept.splitlines()
    out = tmp_path / "phase.svg"
    words = ["figure", str(tmp_path), "--period", "0.3", "--epoch", "2461326.3", "--out", str(out)]
    for _ in range(2):
        drawn = CliRunner().invoke(main, [*words, "--title", "Sorrel 1 folded"])
        assert drawn.exit_code == 0, drawn.output
    assert "Sorrel 1 folded" in out.read_text()
    assert CliRunner().invoke(main, [*words[:-1], "a.doc"]).exit_code == 2
    over_time = ["figure", str(tmp_path), "--size", "9", "6", "--out", str(tmp_path / "time.pdf")]
    assert CliRunner().invoke(main, over_time).exit_code == 0
    assert (tmp_path / "time.pdf").read_bytes().startswith(b"%PDF")


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


def test_instrumental_magnitudes_of_single_stars_can_be_asked_for() -> None:
    columns = ("comparison_name", "comparison_instrumental", "check_instrumental")
    body = "".join(
        f'[[column]]\nvalue = "{name}"\ndigits = 4\nmissing = "na"\n' for name in columns
    )
    layout = parse_layout(f'name = "one"\nseparator = "|"\ntitles = false\n{body}', "one")
    point = replace(POINT, zero_point=20.5, check_magnitude=12.75)
    one = replace(FACTS, stars={("", "V"): Stars(("Sorrel 3",), 12.1, "Sorrel 4", 12.7)})
    assert render_report(layout, [point], one) == "Sorrel 3|-8.4000|-7.7500\n"
    some = replace(FACTS, stars={("", "V"): Stars(("Sorrel 3", "Sorrel 5"), 12.1, "Sorrel 4")})
    assert render_report(layout, [point], some) == "ensemble|na|-7.7500\n"


def test_a_row_for_each_comparison_star_says_what_that_one_gives() -> None:
    layout = parse_layout(
        """name = "each"
rows = "comparison"
titles = false
separator = "|"
fields = { code = "AX" }
[[column]]
value = "magnitude"
digits = 4
[[column]]
value = "uncertainty"
digits = 4
[[column]]
pattern = "{code}: {comparison_name} {comparison_known:2}, check {check_magnitude:3}, {airmass}"
[[column]]
value = "group"
""",
        "each",
    )
    point = replace(
        POINT, magnitude=12.3, uncertainty=0.005, zero_point=20.0, zero_point_uncertainty=0.003,
        check_magnitude=12.75,
    )  # fmt: skip
    each = (
        Comparison("Sorrel 3", 12.1, {point.exposure: (-7.92, 0.003), "later": (-7.9, 0.003)}),
        Comparison("Sorrel 5", 13.0, {point.exposure: (-6.99, 0.004)}),
    )
    stars = Stars(("Sorrel 3", "Sorrel 5"), 12.1, "Sorrel 4", 12.7, each=each)
    facts = replace(FACTS, stars={("", "V"): stars})
    later = replace(point, exposure="later", jd_utc=point.jd_utc + 0.01)
    # √(0.005² − 0.003²) is the star's own 0.004, beside 0.003 and 0.004 of the comparison stars;
    # the fifth star was not measured later.
    assert render_report(layout, [point, later], facts).splitlines() == [
        "12.3200|0.0050|AX: Sorrel 3 12.10, check 12.770, 1|1",
        "12.2900|0.0057|AX: Sorrel 5 13.00, check 12.740, 1|1",
        "12.3000|0.0050|AX: Sorrel 3 12.10, check 12.750, 1|2",
    ]


def test_a_group_is_one_point_of_each_filter() -> None:
    layout = parse_layout('titles = false\n[[column]]\nvalue = "group"\n', "groups")
    night, next_night = 2461326.3, 2461327.3
    taken = [
        ("B", night),
        ("V", night),
        ("B", night),
        ("V", night),
        ("V", night),
        ("B", next_night),
    ]
    points = [
        replace(POINT, filter=name, jd_utc=jd + 0.001 * n) for n, (name, jd) in enumerate(taken)
    ]
    assert render_report(layout, points, FACTS).split() == ["1", "1", "2", "2", "3", "4"]
