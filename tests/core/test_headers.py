"""Headers: whatever program wrote them, they give the same facts, or a question."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest

from builders import EVENING, facts_of, raw_of, write_simple
from narrow_beacon.core.frames.fits_file import overscan_of, read_pixels
from narrow_beacon.core.frames.frame import Correction, LeftOut, TimeRule
from narrow_beacon.core.frames.header import keyword_table
from narrow_beacon.core.frames.overscan import measure_overscan
from narrow_beacon.core.frames.sections import Section, Sections, section_of, sections_of
from narrow_beacon.core.frames.sort import read_raw, settle
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.sorting import sort_raw_files

EXPOSURE_S = 60.0


DIALECTS: dict[str, dict[str, object]] = {
    "words": {"IMAGETYP": "Light Frame", "EXPTIME": 60.0, "DATE-OBS": "2026-10-12T20:30:00",
              "CCD-TEMP": -10.0, "FILTER": "V", "OBJCTRA": "22 41 02.6", "OBJCTDEC": "+38 12 44"},
    "capitals": {"FRAME": "LIGHT", "EXPOSURE": 60.0, "DATE-BEG": "2026-10-12T20:30:00.000000Z",
                 "DET-TEMP": -10.0, "FILTNAM": "V", "RA": 340.260833, "DEC": 38.212222},
    "old-fashioned": {"OBSTYPE": "object", "ITIME": 60, "DATE-OBS": "2026-10-12",
                      "TIME-OBS": "20:30:00.000", "SENSTEMP": -10.0, "FILTER1": "V",
                      "RA": "22:41:02.6", "DEC": "+38:12:44"},
    "day numbers": {"IMAGETYP": "science", "EXPTIME": 60.0, "MJD-OBS": 61325.854166666664,
                    "CCDTEMP": -10.0, "FILTERS": "Johnson V", "RA_OBJ": "22h41m02.6s",
                    "DEC_OBJ": "+38d12m44s"},
    "Julian date": {"PICTTYPE": "light", "EXPOSED": 60.0, "JD": 2461326.3541666665,
                    "TEMPERAT": -10.0, "FILTER": "V ", "TELRA": "22 41 02.6",
                    "TELDEC": "38 12 44"},
    "middle": {"IMAGETYP": "OBJECT", "EXPTIME": 60.0, "DATE-AVG": "2026-10-12T20:30:30",
               "DATE-OBS": "2026-10-12T20:30:00", "CCD-TEMP": -10.0, "FILTER": "V",
               "RADEG": 340.260833, "DECDEG": 38.212222},
    "middle day": {"EXPTYPE": "LIGHT", "EXPTIME": 60.0, "MJD-AVG": 61325.85451388889,
                   "CAMTEMP": -10.0, "INSFLNAM": "V-Johnson", "CRVAL1": 340.260833,
                   "CRVAL2": 38.212222},
    "end": {"IMAGETYP": "light", "EXPTIME": 60.0, "DATE-END": "2026-10-12T20:31:00",
            "CCD-TEMP": -10.0, "FILTER": "v", "RAHOURS": 22.684055, "DECDEG": 38.212222},
    "milliseconds": {"IMAGETYP": "light", "EXPMS": 60000, "DATE-OBS": "2026-10-12T20:30:00",
                     "CCD-TEMP": "-10.0", "FILTER": "V", "RA": "22 41 02.6", "DEC": "+38 12 44"},
    "both units": {"IMAGETYP": "LIGHT", "EXPTIME": 60.0, "EXPOSURE": 60000.0,
                   "DATE-OBS": "2026-10-12T20:30:00", "SET-TEMP": -10.0, "FILTER": "V",
                   "RA": "22 41 02.6", "DEC": "+38 12 44"},
    "zone in the time": {"IMAGETYP": "light", "EXPTIME": 60.0,
                         "DATE-OBS": "2026-10-12T22:30:00+02:00", "CCD-TEMP": -10.0,
                         "FILTER": "V", "RA": "22 41 02.6", "DEC": "+38 12 44"},
    "local and zone": {"IMAGETYP": "light", "EXPTIME": 60.0, "DATE-OBS": "2026-10-12T22:30:00",
                       "TIMESYS": "LOCAL", "UTOFFSET": 2.0, "CCD-TEMP": -10.0, "FILTER": "V",
                       "RA": "22 41 02.6", "DEC": "+38 12 44"},
    "local beside a zone": {"IMAGETYP": "light", "EXPTIME": 60.0,
                            "DATE-LOC": "2026-10-12T11:00:00", "TIMEZONE": "-09:30",
                            "CCD-TEMP": -10.0, "FILTER": "V", "RA": "22 41 02.6",
                            "DEC": "+38 12 44"},
    "dynamical": {"IMAGETYP": "sci", "EXPTIME": 60.0, "DATE-OBS": "2026-10-12T20:31:09.184",
                  "TIMESYS": "TT", "CCD-TEMP": -10.0, "FILTER": "V", "RA": "22 41 02.6",
                  "DEC": "+38 12 44"},
    "satellite time": {"FRAMETYP": "Target", "EXPTIM": 60.0, "DATE-OBS": "2026-10-12T20:30:18",
                       "TIMESYS": "GPS", "DETTEMP": -10.0, "FILTERID": "V", "RA": "22 41 02.6",
                       "DEC": "+38 12 44"},
    "date with a clock beside": {"IMGTYPE": "Exposure", "EXPTIME": "60.0 s",
                                 "DATE-OBS": "2026-10-12", "UT": "20:30:00", "CCD-TEMP": -10.0,
                                 "FILTER": "V", "RA": "22 41 02.6", "DEC": "+38 12 44"},
    "everything twice": {"IMAGETYP": "light", "OBSTYPE": "OBJECT", "EXPTIME": 60.0,
                         "EXPOSURE": 60.0, "DATE-OBS": "2026-10-12T20:30:00",
                         "DATE-END": "2026-10-12T20:31:07", "MJD-OBS": 61325.85417,
                         "JD": 2461326.35451, "CCD-TEMP": -10.0, "SET-TEMP": -10.0,
                         "FILTER": "V", "OBJCTRA": "22 41 02.6", "OBJCTDEC": "+38 12 44"},
}  # fmt: skip


@pytest.mark.parametrize("dialect", DIALECTS)
def test_every_dialect_says_the_same(dialect: str) -> None:
    facts = facts_of(DIALECTS[dialect])
    frame = settle(raw_of(facts), None, TimeRule())
    assert not isinstance(frame, LeftOut), frame
    assert (frame.kind, frame.filter, frame.exposure_s) == ("exposure", "V", EXPOSURE_S)
    assert frame.temperature_c == -10.0
    middle = EVENING + timedelta(seconds=EXPOSURE_S / 2)
    # A day's number of five digits is good to half a second.
    assert frame.mid_utc is not None
    assert abs((frame.mid_utc - middle).total_seconds()) < 0.5
    assert facts.ra_deg is not None
    assert facts.dec_deg is not None
    assert abs(facts.ra_deg.value - 340.260833) < 2e-4
    assert abs(facts.dec_deg.value - 38.212222) < 1e-5


USUAL = DIALECTS["words"]


@pytest.mark.parametrize(
    ("cards", "words", "word"),
    [
        ({"OBSTYPE": "FLAT"}, "IMAGETYP = exposure, OBSTYPE = flat", Correction(kind="exposure")),
        ({"EXPOSURE": 90.0}, "EXPTIME = 60.0, EXPOSURE = 90.0", Correction(exposure_s=60.0)),
        # Local time under the keyword of UTC, beside a day's number that is right.
        ({"MJD-OBS": 61325.7708}, "DATE-OBS 2026-10-12 20:30:00 (start), MJD-OBS 2026-10-12 18:29",
         Correction(time_utc=datetime(2026, 10, 12, 18, 30))),
        ({"DATE-END": "2026-10-12T20:30:20"}, "DATE-END 2026-10-12 20:30:20 (end)",
         Correction(time_utc=EVENING)),
        ({"DATE-AVG": "2026-10-12T20:45:00"}, "DATE-AVG 2026-10-12 20:45:00 (middle)",
         Correction(time_utc=EVENING)),
    ],
)  # fmt: skip
def test_a_header_that_contradicts_itself_is_a_question_until_the_observer_answers(
    cards: dict[str, object], words: str, word: Correction
) -> None:
    raw = raw_of(facts_of({**USUAL, **cards}))
    asked = settle(raw, None, TimeRule())
    assert isinstance(asked, LeftOut)
    assert asked.reason.startswith("its header contradicts itself")
    assert words in asked.reason
    assert not isinstance(settle(raw, None, TimeRule(), word), LeftOut)


def test_a_zone_on_the_other_side_of_the_earth_is_not_believed() -> None:
    local = {**USUAL, "DATE-OBS": "2026-10-12T22:30:00", "TIMESYS": "LOCAL", "UTOFFSET": -7.0}
    facts = facts_of(local, SITELONG="105 30 00")
    assert facts.time_utc is None
    assert facts.time_system == "LOCAL"


@pytest.mark.parametrize(
    ("cards", "binning", "light", "strips"),
    [
        ({"BIASSEC": "[1:8,1:48]", "TRIMSEC": "[9:64,1:48]"}, (1, 1), (8, 0, 56, 48),
         [(0, 0, 8, 48)]),
        ({"BIASSEC": "[57:64,1:48]"}, (1, 1), (0, 0, 56, 48), [(56, 0, 8, 48)]),
        ({"DATASEC": "[5:60, 3:46]"}, (1, 1), (4, 2, 56, 44), []),
        # In single pixels of a sensor read 2 × 2 binned; a pixel that is half in is out.
        ({"BIASSEC": "[113:128,1:96]", "DATASEC": "[1:111,1:96]"}, (2, 2), (0, 0, 55, 48),
         [(56, 0, 8, 48)]),
        ({"BIASSEC": "[8:1,48:1]", "DATASEC": "[64:9,48:1]"}, (1, 1), (8, 0, 56, 48),
         [(0, 0, 8, 48)]),
        ({"BIASSEC1": "[1:4,1:48]", "BIASSEC2": "[61:64,1:48]"}, (1, 1), (4, 0, 56, 48),
         [(0, 0, 4, 48), (60, 0, 4, 48)]),
    ],
)  # fmt: skip
def test_sections_are_understood_however_binned(
    cards: dict[str, str],
    binning: tuple[int, int],
    light: tuple[int, ...],
    strips: list[tuple[int, ...]],
) -> None:
    found = sections_of(cards, (48, 64), binning)
    assert isinstance(found, Sections)
    assert found.light == Section(*light)
    assert list(found.overscan) == [Section(*strip) for strip in strips]


@pytest.mark.parametrize(
    "cards",
    [
        {"BIASSEC": "[1:8,1:48]", "DATASEC": "[5:64,1:48]"},
        {"DATASEC": "[1:640,1:480]"},
        {"DATASEC": "[1:9,1:48]"},
    ],
)
def test_sections_that_cannot_be_are_words(cards: dict[str, str]) -> None:
    assert isinstance(sections_of(cards, (48, 64), (1, 1)), str)
    facts = facts_of(cards)
    assert facts.sections is None
    assert "contradict" in facts.conflicts["sections"]
    (remark,) = (
        r for r in sort_raw_files(Plan(Path("plan"), "", ()), [raw_of(facts)], {}).remarks
        if "sections" in r.words
    )  # fmt: skip
    assert "no overscan is used" in remark.words


@pytest.mark.parametrize("text", ["", "1:8,1:48", "[0:8,1:4]", "[a:b,c:d]", "[1:8]"])
def test_what_is_no_section(text: str) -> None:
    assert section_of(text) is None


@pytest.mark.parametrize(("drift", "banding"), [(0.0, 0.0), (12.0, 0.0), (5.0, 3.0)])
def test_overscan_takes_off_what_is_real_and_no_noise_of_its_own(
    drift: float, banding: float
) -> None:
    rng = np.random.default_rng(5)
    height, width, strip, noise = 1024, 64, 32, 6.0
    rows = 500.0 + drift * np.linspace(-0.5, 0.5, height) + banding * rng.normal(size=height)
    stored = (rows[:, None] + rng.normal(0, noise, (height, strip + width))).astype(np.float32)
    found = measure_overscan(
        stored, [Section(0, 0, strip, height)], Section(strip, 0, width, height)
    )
    left = found.rows_adu - rows
    sure = noise / np.sqrt(strip - 2)  # the two columns beside the light are left out
    if banding:
        # The Wiener filter's own error, and the little that the smoothing adds.
        wanted = np.sqrt(1.0 / (1.0 / banding**2 + 1.0 / sure**2))
        assert np.std(left) < 1.05 * wanted
        assert found.banding_adu == pytest.approx(banding, rel=0.07)
    else:
        assert np.std(left) < 0.35 * sure
        assert found.banding_adu == 0.0
    # The ends of a straight line over 33 rows are sure to twice the error of their mean.
    ends = 2.0 * np.hypot(banding, sure) / np.sqrt(33) * np.sqrt(2.0)
    assert abs(found.drift_adu - drift) < 2.5 * ends
    assert found.noise_adu == pytest.approx(noise, rel=0.03)
    assert abs(np.mean(left)) < 4 * sure / np.sqrt(height)


@pytest.mark.parametrize("along_rows", [False, True])
def test_overscan_in_coarse_steps_is_taken_off_whole(along_rows: bool) -> None:
    """Twelve bits in words of sixteen, a third of whose values are a step above the others."""
    rng = np.random.default_rng(6)
    height, width, strip, step = 512, 64, 32, 16.0
    shape = (strip, 4 * width) if along_rows else (height, strip)
    values = step * np.rint(rng.normal(20.35, 0.4, shape)).astype(np.float32)
    stored = np.zeros((height + strip, 4 * width), np.float32)
    stored[: shape[0], : shape[1]] = values
    light = Section(0, strip, 4 * width, height) if along_rows else Section(strip, 0, width, height)
    found = measure_overscan(stored, [Section(0, 0, shape[1], shape[0])], light)
    # Some ten thousand values of 0.5 steps: their mean is known to a hundredth of one.
    assert found.level_adu == pytest.approx(values.mean(), abs=0.03 * step)
    assert found.banding_adu == 0.0
    assert np.ptp(found.rows_adu) < 0.3 * step


def test_an_image_is_what_sees_light_with_its_overscan_off(tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    light = rng.normal(900, 4, (96, 120))
    rows = np.linspace(0, 20, 96)[:, None]
    strip = rng.normal(300, 4, (96, 24)) + rows
    adu = np.rint(np.concatenate([light + 300 + rows, strip], axis=1)).astype(np.uint16)
    for ending, wrapping in ((".fits", "plain"), (".fits.fz", "tiled")):
        path = write_simple(
            tmp_path / f"a{ending}", adu, "dark", wrapping=wrapping, BIASSEC="[121:144,1:96]"
        )
        raw = read_raw(path, "a")
        assert raw.source is not None
        image = read_pixels(raw.source)
        assert image.shape == (96, 120)
        assert np.mean(image - light) == pytest.approx(0.0, abs=0.3)
        assert np.std(np.mean(image - light, axis=1)) < 0.5
        found = overscan_of(raw.source)
        assert found is not None
        assert found.drift_adu == pytest.approx(20, abs=1.5)
        assert raw.source.place(0, 0) == (0, 0)


def test_the_table_of_keywords_in_the_documents_is_that_of_the_interpreter() -> None:
    document = Path(__file__).parents[2] / "docs" / "headers.md"
    assert keyword_table() in document.read_text(encoding="utf-8"), (
        "docs/headers.md: put in what keyword_table() gives"
    )
