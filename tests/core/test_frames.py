"""Files of a night: read whatever a camera writes, say what it is, leave out what is none."""

from __future__ import annotations

import os
import re
import sys
from dataclasses import asdict
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits
from hypothesis import given
from hypothesis import strategies as st

from builders import EVENING, facts_of, frame, frame_of, noise, write_simple
from narrow_beacon.core.correct.masters import MasterFacts, build_master
from narrow_beacon.core.correct.match import choose_dark
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.cut import cut_share
from narrow_beacon.core.frames.entries import list_entries
from narrow_beacon.core.frames.file_name import NamePattern, NamePatternError, NameValues
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import read_image, read_pixels
from narrow_beacon.core.frames.frame import Frame, LeftOut, RawFile, TimeRule
from narrow_beacon.core.frames.header import interpret, kind_of
from narrow_beacon.core.frames.header_values import sexagesimal_deg
from narrow_beacon.core.frames.levels import levels_of
from narrow_beacon.core.frames.sort import (
    inspect_file,
    longitude_by_pause,
    night_of,
    read_raw,
    sort_night,
)
from narrow_beacon.core.gate import Gate
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.sorting import sort_raw_files
from narrow_beacon.simulate.headers import (
    FrameInfo,
    sexagesimal,
    spelling_capitals,
    spelling_short,
    spelling_words,
)

ADU = np.arange(48 * 64, dtype=np.uint16).reshape(48, 64) * 20 + 7


@pytest.mark.parametrize(
    ("wrapping", "ending"),
    [
        ("plain", ".fits"), ("tiled", ".fits.fz"), ("gzip", ".fits.gz"),
        ("extension", ".fits"), ("float", ".fits"), ("long", ".fits"),
    ],
)  # fmt: skip
def test_pixels_are_the_same_in_every_wrapping(tmp_path: Path, wrapping: str, ending: str) -> None:
    path = write_simple(tmp_path / f"a{ending}", ADU, wrapping=wrapping)
    image = read_image(path)
    assert np.array_equal(read_pixels(image.source), ADU.astype(np.float32))
    assert (image.source.height, image.source.width) == ADU.shape
    assert interpret(image).filter.value == "V"  # type: ignore[union-attr]


def test_undefined_pixels_become_nan(tmp_path: Path) -> None:
    hdu = fits.PrimaryHDU(np.array([[5, -99], [7, 8]], np.int16))
    hdu.header["BLANK"] = -99
    hdu.writeto(tmp_path / "b.fits")
    pixels = read_pixels(read_image(tmp_path / "b.fits").source)
    assert np.isnan(pixels[0, 1])
    assert pixels[1, 0] == 7


def test_a_file_cut_short_says_how_much_of_it_is_there(tmp_path: Path) -> None:
    whole = write_simple(tmp_path / "a.fits", noise((100, 100), 500, 5).astype(np.uint16))
    data = whole.read_bytes()
    (tmp_path / "short.fits").write_bytes(data[: 2880 + 20000 // 2])
    with pytest.raises(UnreadableFileError, match=r"short\.fits: cut short, 50% of its pixels"):
        read_image(tmp_path / "short.fits")


@pytest.mark.parametrize(
    "make",
    [
        lambda path: path.write_bytes(b"SIMPLE  =  T" + bytes(4000)),
        lambda path: fits.PrimaryHDU(np.zeros((3, 4, 5), np.int16)).writeto(path),
        lambda path: fits.PrimaryHDU().writeto(path),
    ],
    ids=["garbage", "cube", "no image"],
)
def test_what_holds_no_image_is_left_out_with_a_reason(tmp_path: Path, make: object) -> None:
    path = tmp_path / "x.fits"
    make(path)  # type: ignore[operator]
    item = inspect_file(path, "x.fits", None, TimeRule())
    assert isinstance(item, LeftOut)
    assert len(item.reason) > 10


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("Light Frame", "exposure"), ("LIGHT", "exposure"), ("object", "exposure"),
        ("Flat Field", "flat"), ("DARKFLAT", "flat dark"), ("Dark Flat", "flat dark"),
        ("FLATDARK", "flat dark"), ("zero", "bias"), ("Bias Frame", "bias"), ("DARK", "dark"),
        ("skyflat", "flat"), ("Master Dark", "master"), ("focus run", None),
    ],
)  # fmt: skip
def test_kinds_are_understood_in_many_spellings(text: str, kind: str | None) -> None:
    assert kind_of(text) == kind


@pytest.mark.parametrize("spelling", [spelling_words, spelling_capitals, spelling_short])
@pytest.mark.parametrize("kind", ["exposure", "bias", "dark", "flat", "flat dark"])
def test_every_capture_program_gives_the_same_facts(spelling, kind: str) -> None:  # type: ignore[no-untyped-def]
    info = FrameInfo(kind, "V", EVENING, 45.0, -9.5, 340.26, 38.2)
    header = spelling(info)
    facts = facts_of(dict(header))
    assert facts.kind.value == kind  # type: ignore[union-attr]
    assert facts.exposure_s.value == 45.0  # type: ignore[union-attr]
    assert facts.temperature_c.value == -9.5  # type: ignore[union-attr]
    assert facts.time_utc.value == EVENING  # type: ignore[union-attr]
    assert facts.filter.value == "V"  # type: ignore[union-attr]
    assert facts.kind.keyword in header  # type: ignore[union-attr]
    if facts.ra_deg:
        assert facts.ra_deg.value == pytest.approx(340.26, abs=1e-3)


@pytest.mark.parametrize(
    ("cards", "moment", "middle"),
    [
        ({"DATE-OBS": "2026-10-12T20:30:00.250"}, EVENING + timedelta(seconds=0.25), False),
        ({"DATE-OBS": "2026-10-12", "UT": "20:30:00"}, EVENING, False),
        # TT is ahead of TAI by 32.184 s, TAI of UTC by 37 s since 2017, GPS behind TAI by 19 s.
        ({"DATE-OBS": "2026-10-12T20:31:09.184", "TIMESYS": "TT"}, EVENING, False),
        ({"DATE-OBS": "2026-10-12T20:30:37", "TIMESYS": "TAI"}, EVENING, False),
        ({"DATE-OBS": "2026-10-12T20:30:18", "TIMESYS": "GPS"}, EVENING, False),
        (
            {"DATE-OBS": "1998-10-12T20:30:31", "TIMESYS": "TAI"},
            datetime(1998, 10, 12, 20, 30),
            False,
        ),
        ({"DATE-OBS": "2026-10-12T20:30:00", "TIMESYS": "UTC"}, EVENING, False),
        ({"DATE-OBS": "2026-10-12T22:30:00+02:00"}, EVENING, False),
        ({"DATE-OBS": "2026-10-12T11:00:00-0930"}, EVENING, False),
        ({"DATE-AVG": "2026-10-12T20:30:00", "DATE-OBS": "2026-10-12T20:29:00"}, EVENING, True),
        ({"JD": 2461326.3541666665}, EVENING, False),
        ({"MJD-AVG": 61325.854166666664}, EVENING, True),
        ({"DATE-OBS": "12/10/98", "TIME-OBS": "20:30:00"}, datetime(1998, 10, 12, 20, 30), False),
    ],
)
def test_times_are_read_in_every_form(
    cards: dict[str, object], moment: datetime, middle: bool
) -> None:
    facts = facts_of(cards)
    assert abs((facts.time_utc.value - moment).total_seconds()) < 1e-4  # type: ignore[union-attr]
    assert facts.time_is_middle is middle


def test_odd_values_are_unknown_not_errors() -> None:
    facts = facts_of(
        EXPTIME="soon",
        EXPOSURE=30.0,
        CCD_TEMP=999,
        DATE_OBS="yesterday",
        RA="x",
        XBINNING=0,
        FILTER="",
    )
    assert facts.exposure_s.value == 30.0  # type: ignore[union-attr]
    assert facts.exposure_s.keyword == "EXPOSURE"  # type: ignore[union-attr]
    for name in ("temperature_c", "time_utc", "ra_deg", "binning", "filter", "kind"):
        assert getattr(facts, name) is None


def test_scale_comes_from_pixel_size_and_focal_length() -> None:
    scale = facts_of(XPIXSZ=9.0, FOCALLEN=1600.0).scale_arcsec_per_px
    assert scale.value == pytest.approx(206.265 * 9 / 1600, rel=1e-5)  # type: ignore[union-attr]
    assert scale.keyword == "XPIXSZ/FOCALLEN"  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("cards", "aspects"),
    [
        ({"XPIXSZ": 9.0, "YPIXSZ": 9.0}, ()),
        ({"XPIXSZ": 8.6, "YPIXSZ": 8.3}, (8.3 / 8.6,)),
        ({"XBINNING": 2, "YBINNING": 1}, (0.5,)),
        ({"XBINNING": 2, "YBINNING": 2, "XPIXSZ": 9.0}, ()),
        # Sizes of pixels as they are, or as binned: both may be meant.
        ({"XBINNING": 1, "YBINNING": 2, "XPIXSZ": 4.0, "YPIXSZ": 4.0}, (2.0,)),
        ({"XBINNING": 1, "YBINNING": 2, "XPIXSZ": 4.0, "YPIXSZ": 8.0}, (2.0, 4.0)),
        ({"XPIXSZ": 9.0, "YPIXSZ": 0.0}, ()),
        ({"XPIXSZ": 9.0, "YPIXSZ": 900.0}, ()),
    ],
)
def test_pixels_that_are_no_squares_are_told(
    cards: dict[str, float], aspects: tuple[float, ...]
) -> None:
    assert facts_of(**cards).pixel_aspects == pytest.approx(aspects)


@given(st.floats(0, 359.999), st.floats(-89.99, 89.99))
def test_sexagesimal_round_trip(ra: float, dec: float) -> None:
    assert (
        abs((sexagesimal_deg(sexagesimal(ra, hours=True), hours=True) - ra + 180) % 360 - 180)
        < 3e-5
    )
    assert sexagesimal_deg(sexagesimal(dec, hours=False), hours=False) == pytest.approx(
        dec, abs=3e-6
    )


@pytest.mark.parametrize("text", ["", "19 61 00", "a b c", "1 2 3 4"])
def test_nonsense_is_no_angle(text: str) -> None:
    with pytest.raises(ValueError):
        sexagesimal_deg(text, hours=True)


@pytest.mark.parametrize(
    ("cards", "words"),
    [
        ({"HISTORY": "dark subtracted by the master"}, "already processed"),
        ({"NCOMBINE": 12}, "already processed"),
        ({"IMAGETYP": "Master Flat"}, "already combined"),
        ({"IMAGETYP": None}, "what kind of frame"),
        ({"EXPTIME": None}, "no exposure time"),
        ({"DATE_OBS": None}, "no time"),
        ({"FILTER": None}, "no filter"),
    ],
)
def test_a_file_that_cannot_be_used_says_why(
    tmp_path: Path, cards: dict[str, object], words: str
) -> None:
    path = write_simple(tmp_path / "a.fits", ADU, **cards)  # type: ignore[arg-type]
    item = inspect_file(path, "a.fits", None, TimeRule())
    assert isinstance(item, LeftOut)
    assert words in item.reason


def test_the_plan_gives_the_filter_that_headers_lack(tmp_path: Path) -> None:
    path = write_simple(tmp_path / "a.fits", ADU, FILTER=None)
    assert inspect_file(path, "a.fits", "R", TimeRule()).filter == "R"


def test_mid_exposure_follows_the_kit(tmp_path: Path) -> None:
    path = write_simple(tmp_path / "a.fits", ADU, exposure_s=90.0)
    assert frame_of(path).mid_utc == EVENING + timedelta(seconds=45)
    assert frame_of(path, TimeRule("middle", -1.5)).mid_utc == EVENING - timedelta(seconds=1.5)


def test_a_night_is_named_by_its_evening() -> None:
    assert night_of(datetime(2026, 10, 13, 3, 0), -9.4) == "2026-10-12"
    assert night_of(datetime(2026, 10, 13, 3, 0), 170.0) == "2026-10-13"


@pytest.mark.parametrize(
    ("first", "last", "longitude"),
    [
        (20.0, 28.0, 0.0),  # Greenwich's own night
        (
            9.5,
            16.0,
            168.75,
        ),  # its noon falls into the night: the pause from 16 to 33.5 h is the day
        (5.0, 13.0, -135.0),
    ],
)
def test_where_the_site_is_unknown_the_longest_pause_is_the_day(
    first: float, last: float, longitude: float
) -> None:
    hours = np.arange(first, last + 0.01, 0.25) % 24.0
    assert longitude_by_pause(hours) == pytest.approx(longitude)


def test_sorting_leaves_out_copies_strangers_and_wrong_kinds(tmp_path: Path) -> None:
    def inspected(name: str, adu: np.ndarray, kind: str = "exposure", **facts: object) -> object:
        item = frame_of(write_simple(tmp_path / name, adu, kind, **facts))  # type: ignore[arg-type]
        if kind == "exposure":
            return item
        from dataclasses import replace

        return replace(item, levels=levels_of(read_pixels(item.source)))

    items = [
        inspected(f"e{n}.fits", noise((60, 80), 500, 5, n).astype(np.uint16)) for n in range(4)
    ]
    copy = tmp_path / "again.fits"
    copy.write_bytes((tmp_path / "e1.fits").read_bytes())
    items.append(frame_of(copy))
    items.append(inspected("small.fits", noise((30, 80), 500, 5).astype(np.uint16)))
    items.append(
        inspected("other.fits", ADU[:1].repeat(60, 0).repeat(2, 1)[:, :80], INSTRUME="Puffin 2")
    )
    items += [
        inspected(f"d{n}.fits", noise((60, 80), 520, 6, 9 + n).astype(np.uint16), "dark")
        for n in range(5)
    ]
    items.append(inspected("d9.fits", noise((60, 80), 900, 14).astype(np.uint16), "dark"))
    night = sort_night(items)  # type: ignore[arg-type]
    reasons = {item.name: item.reason for item in night.left_out}
    assert len(night.exposures) == 6
    assert len(night.calibration) == 5
    assert "the same file as" in reasons["again.fits"]
    assert "wrong kind: called a dark" in reasons["d9.fits"]
    # Another size and another camera are kits of their own, not strangers.
    kits = {frame.name: frame.kit for frame in night.exposures}
    assert kits["small.fits"] == "Kittiwake 800, 80 × 30"
    assert kits["other.fits"] == "Puffin 2, 80 × 60"
    assert kits["e0.fits"] == "Kittiwake 800, 80 × 60"


def test_a_camera_that_is_not_named_is_the_only_one_of_its_size(tmp_path: Path) -> None:
    def named(name: str, camera: str | None, rows: int = 8) -> Frame:
        adu = noise((rows, 8), 500, 5, len(name) + rows).astype(np.uint16)
        return frame_of(write_simple(tmp_path / name, adu, INSTRUME=camera))

    some = [named("a.fits", "Puffin 2"), named("bb.fits", None), named("ccc.fits", None, 6)]
    assert [f.camera for f in sort_night(some).exposures] == ["Puffin 2", "Puffin 2", None]
    several = [*some, named("dddd.fits", "Fulmar 20")]
    assert {f.name: f.camera for f in sort_night(several).exposures}["bb.fits"] is None


@pytest.mark.parametrize(
    ("spelling", "name"),
    [
        ("V", "V"), ("v", "V"), (" Johnson V ", "V"), ("V_2", "V"), ("Filter V", "V"),
        ("johnson-r", "R"), ("Cousins R", "R"), ("Rc", "R"), ("R", "R"), ("r", "r"),
        ("Sloan r", "r"), ("SDSS g'", "g"), ("g'", "g"), ("gp", "g"), ("b", "B"),
        ("Lum", "L"), ("luminance", "L"), ("clear", "Clear"), ("No filter", "Clear"),
        ("Ha", "Ha"), ("H-alpha", "Ha"), ("OIII 3nm", "OIII 3nm"), ("TG", "green"),
        ("G", "green"), ("r′", "r"), ("SR", "r"), ("V-Johnson", "V"), ("Ic", "I"), ("CV", "CV"),
        ("Halpha", "Ha"), ("sloan R", "r"), ("my own", "my own"),
    ],
)  # fmt: skip
def test_a_filter_has_one_name_however_it_is_spelled(spelling: str, name: str) -> None:
    assert filter_name(spelling) == name
    assert filter_name(filter_name(spelling)) == name


def test_files_are_found_in_subfolders_once_and_in_order(tmp_path: Path) -> None:
    for name in ("b/2.fits", "a/1.fits", "a/.hidden"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text("x")
    found = list_entries([tmp_path, tmp_path / "a"])
    assert [path.name for path in found.files] == ["1.fits", "2.fits"]
    assert not found.refused


def test_whatever_else_lies_among_the_files_is_listed_with_a_reason(tmp_path: Path) -> None:
    night, outside = tmp_path / "night", tmp_path / "outside"
    for folder in (night / "deep", night / "odd.fits", outside):
        folder.mkdir(parents=True)
    for path in (night / "deep/good.fits", outside / "theirs.fits", night / "odd.fits/in.fits"):
        path.write_text("x")
    os.mkfifo(night / "pipe.fits")
    (night / "dangling.fits").symlink_to(night / "nowhere")
    (night / "self.fits").symlink_to(night / "self.fits")
    (night / "deep/up").symlink_to(night)
    (night / "out.fits").symlink_to(outside / "theirs.fits")
    (night / "out").symlink_to(outside)
    (night / "in").symlink_to(night / "deep/good.fits")
    Path(os.fsdecode(os.fsencode(night) + b"/caf\xe9.fits")).write_text("x")

    found = list_entries([night], Gate.below([night]))
    assert [str(p.relative_to(night)) for p in found.files] == [
        "deep/good.fits", "in", "odd.fits/in.fits",
    ]  # fmt: skip
    assert {str(path.relative_to(night)): reason for path, reason in found.refused} == {
        "caf\\xe9.fits": "its name is not in UTF-8; give it another name",
        "dangling.fits": "a link to nothing",
        "deep/up": "a link that leads back to a folder above it",
        "odd.fits": "a folder, not a file; what is in it is listed by itself",
        "out": "leads out of the folders that may be read",
        "out.fits": "a link that leads out of the folders that may be read",
        "pipe.fits": "a pipe, not a file",
        "self.fits": "cannot be opened: Too many levels of symbolic links",
    }
    # Without a gate, links lead wherever the user may read.
    assert outside / "theirs.fits" in {path.resolve() for path in list_entries([night]).files}


def test_a_header_without_any_fact_gives_none(tmp_path: Path) -> None:
    facts = facts_of(NAXIS=2)
    known = {"time_is_middle", "mosaic_origin", "pixel_aspects", "conflicts"}
    assert all(value is None for name, value in asdict(facts).items() if name not in known)
    assert not facts.conflicts
    assert not facts.pixel_aspects
    assert frame(tmp_path, ADU).night == "2026-10-12"


class TestNamePattern:
    @pytest.mark.parametrize(
        ("pattern", "path", "values"),
        [
            ("{kind}_{filter}_{seconds}s", "a/Light_V_60s_0012.fits", ("exposure", "V", 60.0)),
            ("*_{filter}_*", "larkspur_Rc_12.fit", (None, "Rc", None)),
            ("*{seconds}s", "DARK-2.5s.fits", (None, None, 2.5)),
            ("{kind}/*/{filter}", "night/flat dark/low/B-1.fits", ("flat dark", "B", None)),
            ("{filter}", "V.fits.gz", (None, "V", None)),
            ("**{seconds}s", "dark_30s.fits", (None, None, 30.0)),
        ],
    )
    def test_it_reads_what_stands_in_the_name(
        self, pattern: str, path: str, values: tuple[object, ...]
    ) -> None:
        assert NamePattern(pattern).read(path) == NameValues(*values)

    @pytest.mark.parametrize(
        "written", ["20261012T210430.25", "2026-10-12_21-04-30.25", "20261012-21h04m30.25"]
    )
    def test_the_start_is_read_in_the_ways_programs_write_it(self, written: str) -> None:
        values = NamePattern("x {time}").read(f"x {written}.fits")
        assert values == NameValues(time_utc=datetime(2026, 10, 12, 21, 4, 30, 250_000))

    @pytest.mark.parametrize(
        ("pattern", "path"),
        [
            ("{filter}_{seconds}s", "V_sixty.fits"),
            ("{kind}_*", "cake_1.fits"),
            ("{kind}_*", "master dark_1.fits"),
            ("{time}", "20261312T210430.fits"),
            ("{kind}/*", "flat.fits"),
        ],
    )
    def test_a_name_that_does_not_fit_says_nothing(self, pattern: str, path: str) -> None:
        assert NamePattern(pattern).read(path) is None

    @pytest.mark.parametrize(
        ("pattern", "words"),
        [
            ("*", "write {kind}"), ("{cake}", "none of {kind}"), ("{filter", "a lone {"),
            ("{filter}-{filter}", "stands twice"),
        ],
    )  # fmt: skip
    def test_a_pattern_that_cannot_be_read_is_refused(self, pattern: str, words: str) -> None:
        with pytest.raises(NamePatternError, match=words):
            NamePattern(pattern)

    def test_no_pattern_takes_long_on_any_name(self) -> None:
        steps = 0

        def count(*_: object) -> None:
            nonlocal steps
            steps += 1

        sys.setprofile(count)
        try:
            for text in ("*a*a*a{kind}x", "*a" * 60 + "{kind}b", "a*{filter}*{kind}*{time}x"):
                for name in ("a" * 255, "1a-" * 85, "a_" * 127):
                    assert NamePattern(text).read(name) is None
        finally:
            sys.setprofile(None)
        assert steps < 10_000_000  # by trying every way it would be more than 10**9

    @given(
        st.text("ab1_", max_size=12), st.lists(st.sampled_from(["*", "a", "_", "b"]), max_size=5)
    )
    def test_it_fits_as_the_same_expression_would(self, name: str, pieces: list[str]) -> None:
        expression = "".join("[^/]*?" if piece == "*" else piece for piece in pieces)
        found = re.match(expression + "([^-_./]+)", name)
        said = NamePattern("".join(pieces) + "{filter}").read(name)
        assert (said.filter if said else None) == (found.group(1) if found else None)


def test_a_cut_off_sky_is_told_from_blank_borders() -> None:
    rng = np.random.default_rng(3)
    sky = np.rint(rng.normal(9.0, 5.5, (240, 320)))
    cut = np.clip(sky, 0, None)
    assert cut_share(cut) == pytest.approx((sky <= 0).mean(), abs=0.02)
    # A bias whose every pixel is well above 0 has none, whatever its borders and columns hold.
    whole = sky + 200.0
    whole[:, :40] = whole[:12] = whole[:, 100] = 0
    assert cut_share(whole) == 0.0
    assert cut_share(np.where(rng.uniform(size=sky.shape) < 0.002, 0.0, sky + 200.0)) == 0.0


@pytest.mark.parametrize(
    ("keyword", "value", "aperture_m"),
    [
        ("APERTURE", 0.28, 0.28), ("APERTURE", 200, 0.2), ("APTDIA", 355.6, 0.3556),
        ("TELAPER", 0, None), ("APTDIA", 1e9, None), ("APERTURE", 0.001, None),
    ],
)  # fmt: skip
def test_an_aperture_in_millimetres_is_told_by_its_size(
    keyword: str, value: float, aperture_m: float | None
) -> None:
    said = facts_of(**{keyword: value}).aperture_m
    assert (said.value if said else None) == aperture_m


@pytest.mark.parametrize(
    ("cards", "reason"),
    [
        ({"DATE_OBS": "9999-12-31T23:59:59"}, "its header gives no time"),
        (
            {"TIMESYS": "LOCAL"},
            "its header's time is in LOCAL, which is no known scale; give it in UTC in Intake",
        ),
        ({"DATE_OBS": "0001-01-01T00:00:00"}, "its header gives no time"),
        ({"FILTER": "V" * 66, "OBJECT": "x" * 66, "INSTRUME": "y" * 66}, ""),
    ],
)
def test_absurd_headers_cost_one_file_at_the_most(
    tmp_path: Path, cards: dict[str, str], reason: str
) -> None:
    path = write_simple(tmp_path / "odd.fits", ADU, **cards)
    item = inspect_file(path, path.name, None, TimeRule())
    if reason:
        assert isinstance(item, LeftOut)
        assert item.reason == reason
    else:
        assert isinstance(item, Frame)
        assert len(item.filter or "") <= 40
        assert len(item.camera or "") <= 60


def test_32_bit_unsigned_values_are_exact(tmp_path: Path) -> None:
    values = (np.arange(12, dtype=np.uint32) * 7 + 60001).reshape(3, 4)
    fits.PrimaryHDU(values).writeto(tmp_path / "u.fits")
    assert np.array_equal(read_pixels(read_image(tmp_path / "u.fits").source), values)


def test_a_night_in_the_east_is_one_night_without_a_site(tmp_path: Path) -> None:
    """At 135° east a night goes from 10 to 20 h UT; 12 h UT would cut it."""

    def raws(hours: list[int]) -> list[RawFile]:
        for hour in hours:
            path = tmp_path / f"e{hour}.fits"
            write_simple(path, noise((8, 8), 500, 5, hour), start=datetime(2026, 10, 12, hour % 24))
        return [read_raw(tmp_path / f"e{hour}.fits", f"e{hour}.fits") for hour in hours]

    plan = Plan(tmp_path / "plan.toml", "", (tmp_path,))
    east = sort_raw_files(plan, raws(list(range(10, 20))), {}).night
    assert {frame.night for frame in east.exposures} == {"2026-10-12"}
    usual = sort_raw_files(plan, raws([20, 21, 22, 23]), {}).night
    assert {frame.night for frame in usual.exposures} == {"2026-10-12"}


def test_a_comment_on_the_sensor_is_no_processing(tmp_path: Path) -> None:
    def processed(key: str, words: str) -> bool:
        path = write_simple(tmp_path / f"{len(list(tmp_path.iterdir()))}.fits", noise((8, 8), 9, 1))
        with fits.open(path, mode="update") as hdus:
            hdus[0].header[key] = words
        return interpret(read_image(path)).processed is not None

    assert not processed("COMMENT", "sensor temperature calibrated by the maker")
    assert processed("COMMENT", "dark subtracted")
    assert processed("HISTORY", "calibrated")


def test_a_master_of_another_camera_or_part_of_the_sensor_is_not_taken(tmp_path: Path) -> None:
    adu = noise((16, 16), 500, 5)
    exposure = frame(tmp_path, adu, XORGSUBF=100, YORGSUBF=50)

    def dark(**cards: object) -> MasterFacts:
        group = [frame(tmp_path, adu + n, "dark", **cards) for n in range(3)]
        return build_master(group, tmp_path).facts

    own = dark(XORGSUBF=100, YORGSUBF=50)
    assert own.origin == (100, 50)
    assert choose_dark(exposure, [own]).index == 0
    assert choose_dark(exposure, [dark(XORGSUBF=0, YORGSUBF=0)]).index is None
    assert choose_dark(exposure, [dark(INSTRUME="Fulmar 20")]).index is None
    silent = frame(tmp_path, adu, INSTRUME=None)
    assert any("does not say its camera" in words for words in choose_dark(silent, [own]).remarks)
