"""A plan: every mistake at once, with its line."""

from __future__ import annotations

from dataclasses import fields, replace
from pathlib import Path

import numpy as np
import pytest

from narrow_beacon.core.catalogue.writer import write_catalogue
from narrow_beacon.core.correct.defects import DefectRule, defects_said
from narrow_beacon.core.kits import Rules
from narrow_beacon.core.stars.limits import Limit
from narrow_beacon.core.stars.troubles import USUAL_RULES
from narrow_beacon.plan import Plan, PlanError, read_plan
from narrow_beacon.plan_keys import KEYS, RadiusRule
from narrow_beacon.plan_writer import plan_text
from narrow_beacon.simulate.sky import make_sky

GOOD = """[frames]
folder = "raw"
[catalogue]
file = "field.vot"
[site]
latitude_deg = "61 12 00"
longitude_deg = -9.4
[target]
name = "Sorrel 1003"
ra = "19 41 02.6"
dec = "+38 12 44"
[measure]
radius = "1.6 fwhm"
annulus = [10, 15]
unit = "px"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "raw").mkdir()
    make_sky(np.random.default_rng(1), "Sorrel", 295.26, 38.2, 0.3, 300.0).write_votable(
        tmp_path / "field.vot"
    )
    return tmp_path


def mistakes_of(folder: Path, text: str) -> list[str]:
    (folder / "plan.toml").write_text(text)
    with pytest.raises(PlanError) as caught:
        read_plan(folder / "plan.toml")
    return caught.value.mistakes


def test_a_good_plan_is_read(folder: Path) -> None:
    (folder / "plan.toml").write_text(GOOD)
    plan = read_plan(folder / "plan.toml")
    assert plan.site is not None
    assert plan.site.latitude_deg == 61.2
    assert plan.target_ra_deg == pytest.approx(295.260833, abs=1e-5)
    assert plan.radius == RadiusRule(widths=1.6)
    assert plan.annulus_in_pixels
    assert plan.stars is not None
    assert plan.output == folder / "out"


def test_kits_have_rules_constants_and_defects_of_their_own(folder: Path) -> None:
    (folder / "bad.csv").write_text("x,y,width,height\n512,1,1,900\n7,9\n")
    kits = """
[kit]
gain_e_per_adu = 1.1
lasts_days = 30
[kits."Fulmar 20, 900 x 700"]
combine = "median"
lasts_days = 90
[kits."Fulmar 20, 900 × 700, gain 120"]
gain_e_per_adu = 0.8
marks = [[3, 4, 1, 10]]
[defects]
threshold = 40
map = "bad.csv"
"""
    (folder / "plan.toml").write_text(GOOD + kits)
    plan = read_plan(folder / "plan.toml")
    assert plan.gain_e_per_adu == 1.1
    anyone = plan.kits.word("Tern 9, 1024 × 768")
    assert anyone.rules == Rules(lasts_days=30.0)
    assert anyone.gain_e_per_adu is None
    assert defects_said(anyone) == DefectRule(40.0, ((511, 0, 1, 900), (6, 8, 1, 1)))
    fulmar = plan.kits.word("Fulmar 20, 900 × 700, gain 120", "Fulmar 20, 900 × 700")
    assert (fulmar.rules.combine, fulmar.rules.lasts_days) == ("median", 90.0)
    assert fulmar.gain_e_per_adu == 0.8
    assert defects_said(fulmar) == DefectRule(40.0, ((2, 3, 1, 10),))
    mistakes = mistakes_of(folder, GOOD + '[kits."Tern 9"]\ncombine = "best"\n[kits.x]\ngian = 2\n')
    assert any('combine is \'best\', must be "clipped" or "mean"' in words for words in mistakes)
    assert any("gian: no such key" in words for words in mistakes)


def test_all_mistakes_come_at_once_with_their_lines(folder: Path) -> None:
    text = """[frames]
folder = "nowhere"
[catalogue]
file = "field.vot"
epoch = "soon"
[kit]
gain = 1.3
linear_limit_adu = -5
timestamp = "end"
[target]
name = "Sorel 1003"
ra = "19 61 02"
[cast]
comparison = ["Sorrel 1004", "Nobody"]
check = "Sorrel 1004"
[measure]
radius = "big"
annulus = [5, 4]
[output]
layout = "fancy"
[extra]
"""
    found = mistakes_of(folder, text)
    lines = [int(line.split(":")[1]) for line in found]
    assert lines == sorted(lines)
    expected = {
        2: "there is no folder", 5: "must be a number", 7: "did you mean gain_e_per_adu",
        8: "must be from", 9: "must be", 12: "minutes and seconds must be below 60",
        14: "no star “Nobody”", 17: "must be", 18: "beyond the inner", 20: "no layout",
        21: "no such section",
    }  # fmt: skip
    for line, words in expected.items():
        assert any(text.startswith(f"plan.toml:{line}:") and words in text for text in found), (
            line,
            found,
        )
    assert any("has another role already" in words for words in found)
    assert any("close names: Sorrel 1003" in words for words in found)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[frames\n", "plan.toml:1: not TOML"),
        ("", "[frames] folder: is missing"),
        (GOOD.replace('file = "field.vot"', ""), "give either file or cone"),
        (GOOD.replace('file = "field.vot"', 'file = "field.vot"\ncone = "http://x"'), "not both"),
        (GOOD.replace('file = "field.vot"', 'cone = "ftp://x"'), "starts with http"),
        (GOOD.replace("field.vot", "missing.vot"), "cannot be opened"),
        (GOOD.replace("longitude_deg = -9.4", ""), "needs both latitude_deg and longitude_deg"),
        (GOOD.replace('dec = "+38 12 44"', ""), "give both ra and dec"),
        ("frames = 3\n", "must be a section"),
    ],
)
def test_single_mistakes(folder: Path, text: str, words: str) -> None:
    assert any(words in line for line in mistakes_of(folder, text))


NONSENSE = (
    "true", "-1", "1e400", "nan", '""', '"\\u0000"', f'"{"x" * 5000}"', "[]", "[[]]", "{}",
    "{a = {b = []}}", '[1, "a"]', "2026-10-12T21:00:00", '"../../.."', '"[/b]"', '"1.2.3 fwhm"',
    "9223372036854775808", '"99:99:99"', '["a", "a"]', '"http://[half"', "[nan, inf]",
)  # fmt: skip


@pytest.mark.parametrize("value", NONSENSE)
def test_nonsense_in_any_key_is_a_mistake_or_a_plan_and_nothing_else(
    folder: Path, value: str
) -> None:
    refused = []
    path = folder / "plan.toml"
    # Read some eighty times: a table that is read at once.
    (folder / "few.csv").write_text("name,ra_deg,dec_deg,V\nSorrel 1,295.2,38.2,12.1\n")
    for section, keys in KEYS.items():
        for key in keys or ["V"]:
            lines = {"frames": {"folder": '"raw"'}, "catalogue": {"file": '"few.csv"'}}
            lines.setdefault(section, {})[key] = value
            path.write_text("".join(
                f"[{name}]\n" + "".join(f"{k} = {v}\n" for k, v in content.items())
                for name, content in lines.items()
            ))  # fmt: skip
            try:
                read_plan(path)
            except PlanError as error:
                refused.append(str(error))
    assert len(refused) > 5
    assert max(map(len, refused)) < 3000
    (folder / "plan.toml").write_text("a = " + "[" * 5000)
    with pytest.raises(PlanError, match=r"nested too deeply|not TOML"):
        read_plan(folder / "plan.toml")


def test_a_plan_that_is_not_there_is_named(tmp_path: Path) -> None:
    with pytest.raises(PlanError, match="cannot be opened"):
        read_plan(tmp_path / "none.toml")


@pytest.mark.parametrize(
    ("words", "mistake"),
    [
        ("light = 1.5", "light: is 1.5, must be from 0 to 1"),
        ('limits = "wide"', "limits: must be a list such as"),
        (
            'limits = [{ quality = "charm", above = 1 }]',
            "limits: is 'charm', must be",
        ),
        ('limits = [{ quality = "stars" }]', "limits: on stars must say above or below what"),
        (
            'limits = [{ quality = "stars", abve = 1 }]',
            "abve: no such key; did you mean above",
        ),
        ('limits = [{ quality = "stars", below = 9, night = "first" }]', "must be the date of its"),
        ('set_aside = ["raw/a.fits"]', "set_aside: must give reasons by file"),
        ("widht = 2.0", "widht: no such key; did you mean width?"),
    ],
)
def test_mistakes_in_vetting_are_named(folder: Path, words: str, mistake: str) -> None:
    (found,) = mistakes_of(folder, f"{GOOD}[vet]\n{words}\n")
    assert found.startswith("plan.toml:17: [vet] ")
    assert mistake in found


def test_words_on_vetting_are_taken_over(folder: Path) -> None:
    words = (
        '[vet]\nwidth = 2.5\nkeep = ["raw/a.fits"]\nset_aside = { "raw/b.fits" = "a lamp" }\n'
        'limits = [{ quality = "star width", above = 5, filter = "Johnson V" }]\n'
    )
    (folder / "plan.toml").write_text(GOOD + words)
    vetting = read_plan(folder / "plan.toml").vetting
    assert (vetting.rules.width, vetting.rules.light) == (2.5, USUAL_RULES.light)
    assert vetting.keep == ("raw/a.fits",)
    assert vetting.set_aside == {"raw/b.fits": "a lamp"}
    # A filter is called as its files are.
    assert vetting.limits == (Limit("star width", above=5.0, filter="V"),)


RICH = (
    GOOD.replace('radius = "1.6 fwhm"', "steps = { V = 1.85, B = 1.6 }\nfloor = true")
    + """
[frames]
folder = ["raw"]
leave_out = ["raw/test*"]
[files."raw/a b.fits"]
kind = "dark"
exposure_s = 120.0
time_utc = 2026-09-20T21:14:30Z
ra_deg = "19 41 02.6"
[files."raw/\\"odd\\".fits"]
shift_s = -3600.0
moment = "end"
[masters."2026-09-20, V, 60 s, −10 °C, of a kit"]
dark = "none"
flat = "flat V of 2026-09-18 (0, 10)"
[kit]
gain_e_per_adu = 1.3
clock_offset_s = 0.25
lasts_days = 30.0
combine = "median"
[defects]
threshold = 6.0
marks = [[1, 2, 3, 4]]
[kits."Fulmar 20, 900 × 700"]
defect_threshold = 7.0
marks = [[3, 4, 1, 20]]
[bands]
"Clear" = "V"
[transform]
V = { index = "B-V", coefficient = -0.04, uncertainty = 0.005 }
extinction = { V = 0.15, second_order_V = -0.03 }
[vet]
width = 1.8
limits = [{ quality = "star width", above = 5.0, night = "2026-09-20" }]
keep = ["raw/a b.fits"]
set_aside = { "raw/x.fits" = "a “lamp” was on" }
[points]
most_uncertainty = 0.05
without = ["cosmic ray"]
take_out = ["airmass"]
nights_alike = true
[output]
layout = "tab"
doubtful = true
"""
)


def test_a_plan_that_is_written_reads_back_as_it_was(folder: Path) -> None:
    text = RICH.replace('[frames]\nfolder = "raw"\n', "", 1)
    (folder / "plan.toml").write_text(text)
    plan = read_plan(folder / "plan.toml")
    assert plan.files["raw/a b.fits"].kind == "dark"
    assert plan.stars is not None
    columns = write_catalogue(plan.stars, folder / "stars.ecsv")
    named = replace(plan, epoch_yr=plan.stars.epoch_yr, columns=columns)
    again = folder / "again.toml"
    again.write_text(plan_text(named, folders=["raw"], catalogue="stars.ecsv"), encoding="utf-8")
    read = read_plan(again)
    differing = {"path", "text", "stars", "catalogue_file", "sources"}
    for one in fields(Plan):
        if one.name not in differing:
            assert getattr(read, one.name) == getattr(named, one.name), one.name
    assert read.stars is not None
    for name, value in vars(plan.stars).items():
        if isinstance(value, np.ndarray):
            np.testing.assert_array_equal(getattr(read.stars, name), value, err_msg=name)
    assert read.stars.names == plan.stars.names
    for band, of in plan.stars.bands.items():
        np.testing.assert_array_equal(read.stars.bands[band].magnitude, of.magnitude)
        np.testing.assert_array_equal(read.stars.bands[band].uncertainty, of.uncertainty)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('[files."raw/a.fits"]\nkind = "moon"\n', "kind is 'moon', must be"),
        ('[files."raw/a.fits"]\nnoise = 3\n', "noise: no such key"),
        ('[files."raw/a.fits"]\ntime_utc = "soon"\n', "must be a moment in UTC"),
        ('[masters."of V"]\nsky = "none"\n', "sky: no such key"),
        ('[masters."of V"]\nflat = 3\n', "must be text"),
        ('[points]\nwithout = ["bad luck"]\n', "must be"),
        ("[measure]\nsteps = { V = 1.63 }\n", "must be of"),
    ],
)
def test_mistakes_of_files_points_and_steps_are_named(folder: Path, text: str, words: str) -> None:
    body = GOOD[: GOOD.index("[measure]")] if "[measure]" in text else GOOD
    assert any(words in line for line in mistakes_of(folder, body + text))
