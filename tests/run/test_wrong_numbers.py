"""No wrong number goes out unsaid: small nights with known truth, each with one thing wrong."""

from __future__ import annotations

import gzip
import re
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits
from astropy.table import Table

from narrow_beacon.bench.compare import numbers
from narrow_beacon.core.correct.lean import Lean, lean_in
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.plain import DEC_DEG, RA_DEG, TARGET
from narrow_beacon.simulate.sky import Sky, add_star
from small_nights import COUNT, SHAPE, Reduced, edit, reduced


def target_of(magnitude: float) -> Callable[[Sky], None]:
    """A change of the sky: how bright the target is."""

    def change(sky: Sky) -> None:
        for band, colour in (("V", 0.0), ("B", 0.62)):
            sky.true_mag[band][sky.row(TARGET)] = magnitude + colour

    return change


def beside(away_px: float, fainter: float, listed: bool) -> Callable[[Sky], None]:
    """A change of the sky: a constant target with a neighbour to the east."""

    def change(sky: Sky) -> None:
        target_of(12.6)(sky)
        sky.variations.clear()
        ra = RA_DEG + away_px * 1.16 / 3600 / np.cos(np.radians(DEC_DEG))
        add_star(sky, np.random.default_rng(1), "Foxglove 99", ra, DEC_DEG, 12.6 + fainter, 0.6)
        if not listed:
            sky.uncatalogued.add("Foxglove 99")

    return change


def test_a_cosmic_ray_on_the_target_makes_its_point_doubtful(tmp_path: Path) -> None:
    def strike(raw: Path) -> None:
        with fits.open(raw / "foxglove-005.fits") as hdus:
            data = hdus[0].data.astype(np.uint16)
        # Where the target is: the brightest of the middle, as only the guiding moves it.
        half = SHAPE[0] // 2
        middle = data[half - 12 : half + 12, half - 12 : half + 12]
        y, x = np.unravel_index(np.argmax(middle), middle.shape)
        edit(
            raw / "foxglove-005.fits",
            lambda pixels, _: _raised(pixels, half - 12 + y + 1, half - 12 + x + 2).astype(
                np.uint16
            ),
        )

    night = reduced(tmp_path, strike, change=target_of(12.6))
    row = next(r for r in night.rows if r["exposure"].endswith("005.fits"))
    at = night.rows.index(row)
    assert night.error[at] < -0.05  # 5,000 ADU on some 90,000
    assert row["state"] == "doubtful"
    assert "mmag" in row["flags"]
    assert night.good.sum() >= COUNT - 2
    assert night.honest()
    assert night.said(f"1 of {COUNT} points is doubtful")
    report = (tmp_path / "out" / "report.txt").read_text()
    assert row["magnitude"][:7] not in report


def _raised(pixels: np.ndarray, y: int, x: int) -> np.ndarray:
    pixels[y, x] += 8000.0
    return pixels


@pytest.mark.parametrize("listed", [True, False])
def test_a_bright_neighbours_wings_are_in_the_uncertainty_or_said(
    tmp_path: Path, listed: bool
) -> None:
    width = {n: {"fwhm_px": 2.4 + 1.8 * (n % 7) / 6} for n in range(COUNT)}
    night = reduced(tmp_path, change=beside(12.0, -4.0, listed), troubles=width)
    # With the seeing, without any change of the star; less where the catalogue knows of it.
    assert (np.ptp(night.error) > 0.1) is not listed
    assert night.honest()
    flagged = ["neighbour" in row["flags"] for row in night.rows]
    assert any(flagged)
    if not listed:
        assert all(flagged)
        assert night.said("light in the aperture of Foxglove 7")


@pytest.mark.parametrize(("away_arcsec", "mag"), [(1.6, 12.6), (2.2, 11.5), (3.0, 12.6)])
def test_a_target_found_as_one_with_another_star_keeps_its_own_light(
    tmp_path: Path, away_arcsec: float, mag: float
) -> None:
    def companion(sky: Sky) -> None:
        dec = DEC_DEG + away_arcsec / 3600.0
        add_star(sky, np.random.default_rng(3), "Other", RA_DEG, dec, mag, 0.6, sure_mag=0.005)

    night = reduced(tmp_path, change=companion, exposures=12, cadence_s=1200.0)
    true = numbers(night.rows, "magnitude") - night.error
    assert np.ptp(true) > 0.25  # an eclipse, which is the target's alone
    # What is taken off may be wrong by a twentieth, as every point says; it is by less.
    assert abs(np.mean(night.error)) < 0.04
    assert np.std(night.error) < 0.04


def test_two_stars_that_are_measured_as_one_are_said(tmp_path: Path) -> None:
    def companion(sky: Sky) -> None:
        dec = DEC_DEG + 0.8 / 3600.0
        add_star(sky, np.random.default_rng(3), "Other", RA_DEG, dec, 14.0, 0.6, sure_mag=0.005)

    night = reduced(tmp_path, change=companion, exposures=4)
    assert night.said("both are measured as one star")


def test_a_target_that_moved_since_the_catalogue_is_looked_for(tmp_path: Path) -> None:
    """A star of large proper motion in a catalogue that has none: nothing is in its place."""

    def moved(raw: Path) -> None:
        catalogue = raw.parent / "field.vot"
        text = catalogue.read_text()
        cells = text[text.index(f"<TD>{TARGET}</TD>") :].split("<TD>")
        dec = cells[3].partition("<")[0]
        catalogue.write_text(text.replace(dec, f"{float(dec) + 8.0 / 3600.0:.8f}"))

    night = reduced(tmp_path / "a", moved, change=target_of(12.6), exposures=4)
    assert not night.good.any()
    (remark,) = (one for one in night.outcome.remarks if "not seen in its place" in one.words)
    assert "8.0″ south of it stands a star of 12.6 mag" in remark.words
    # By the place that is told it is measured right.
    ra, dec = re.findall(r"([\d.]+)°", remark.remedy)
    plan = {'name = "Foxglove 7"': f'name = "New star"\nra = {ra}\ndec = {dec}'}
    night = reduced(tmp_path / "b", moved, plan, change=target_of(12.6), exposures=4)
    assert night.good.all()
    assert night.honest()


def test_right_ascensions_in_hours_without_a_unit_are_told(tmp_path: Path) -> None:
    def hours(raw: Path) -> None:
        table = Table.read(raw.parent / "field.vot")
        table["ra"] = table["ra"].data / 15.0
        table.write(raw.parent / "field.vot", format="votable", overwrite=True)

    night = reduced(tmp_path, hours, exposures=1)
    assert not night.rows
    assert night.said("if its right ascensions are hours, not degrees, it is there")


def test_a_faint_neighbour_far_away_is_no_reason_to_doubt(tmp_path: Path) -> None:
    night = reduced(tmp_path, change=beside(14.0, 5.0, True))
    assert night.good.all()
    assert night.honest()


def test_a_camera_that_counts_bright_light_short_is_told_by_the_field(tmp_path: Path) -> None:
    """Of 8,000 ADU a pixel counts 5% less; what is told is about what it makes of the target."""
    chosen = ", ".join(f'"Foxglove {n}"' for n in range(20, 26))
    cast = {"[output]": f"[cast]\ncomparison = [{chosen}]\n\n[output]"}
    off, error = [], []
    for lost in (0.0, 0.05):

        def short(raw: Path, lost: float = lost) -> None:
            for path in sorted(raw.glob("foxglove*")):
                edit(
                    path, lambda pixels, _: pixels - lost / 8000 * np.maximum(pixels - 1000, 0) ** 2
                )

        night = reduced(
            tmp_path / str(lost), short, cast, change=target_of(14.6), exposures=8,
            shape=(512, 512),
        )  # fmt: skip
        told = [one for one in night.outcome.remarks if "for every magnitude" in one.words]
        assert len(told) == (lost > 0)
        off += [float(remark.matters.split()[2]) / 1000 for remark in told]
        error.append(np.mean(night.error))
        for remark in told:
            assert "mmag fainter for every magnitude by which they are brighter" in remark.words
    # Both nights have the same noise; the slope by which it is told is known to a quarter.
    assert error[1] - error[0] == pytest.approx(-off[0], abs=0.004)


def test_a_flat_that_leans_is_told_by_the_flip_and_straightened(tmp_path: Path) -> None:
    """Stray light of 3% on one side of the flats; a constant star far from the middle is measured
    on both sides of the meridian.
    """

    def lean(raw: Path) -> None:
        slope = 1.0 + 0.03 * np.linspace(-1.0, 1.0, 512)
        for path in sorted((raw / "calibration").glob("*flat*")):
            edit(path, lambda pixels, _: 1000.0 + (pixels - 1000.0) * slope)

    def night(name: str, more: str = "") -> Reduced:
        plan = {'name = "Foxglove 7"': 'name = "Foxglove 22"', "[output]": f"{more}[output]"}
        return reduced(
            tmp_path / name, lean, plan, exposures=20, shape=(512, 512), density=6000.0, flip_at=10
        )  # fmt: skip

    def step(night: Reduced) -> float:
        magnitude = numbers(night.rows, "magnitude")
        return abs(float(np.mean(magnitude[10:]) - np.mean(magnitude[:10])))

    leaning = night("a")
    assert step(leaning) > 0.03
    (remark,) = (one for one in leaning.outcome.remarks if "the flat leans" in one.words)
    told = Lean.of(lean_in(remark.remedy))
    # 3% of either side of the middle, from edge to edge.
    assert told.across_mag == pytest.approx(2.5 * np.log10(1.03 / 0.97), abs=0.003)
    assert told.up_mag == pytest.approx(0.0, abs=0.003)
    (chain,) = leaning.outcome.chains
    straight = night("b", f'[masters."{chain}"]\nlean = "{told.text}"\n\n')
    assert step(straight) < 0.004  # two means of ten points of 5 mmag
    assert not straight.said("the flat leans")
    assert "straightened by" in straight.outcome.chains[chain].stations[1].words


def test_exposures_that_lie_upside_down_on_their_dark_are_said(tmp_path: Path) -> None:
    def upside_down(raw: Path) -> None:
        for path in sorted(raw.glob("foxglove*")):
            edit(path, lambda pixels, _: pixels[::-1].astype(np.uint16))

    night = reduced(tmp_path / "a", upside_down, exposures=4)
    assert night.said("exposures show 0%; if it were upside down they would be theirs")
    assert not reduced(tmp_path / "b", exposures=4).said("hot pixels")


@pytest.mark.parametrize("said", ["", "linear_limit_adu = 16383\n"])
def test_where_a_camera_stops_is_found_from_its_frames(tmp_path: Path, said: str) -> None:
    """Also where the limit that is given is the very level at which it stops."""
    camera = Camera(7, SHAPE, full_adu=16383.0, linear_limit_adu=16383.0)
    night = reduced(
        tmp_path, camera=camera, change=target_of(10.6), flat_level_adu=9000.0,
        plan={"linear_limit_adu = 52000\n": said},
    )  # fmt: skip
    assert night.said("pile up at 16383 ADU")
    assert all("saturated" in row["flags"] for row in night.rows)
    assert not night.good.any()


@pytest.mark.parametrize(("level", "words"), [(90000.0, "clipped"), (58000.0, "too bright")])
def test_flats_beyond_what_the_camera_can_tell_are_no_flats(
    tmp_path: Path, level: float, words: str
) -> None:
    plan = {} if words == "too bright" else {"linear_limit_adu = 52000\n": ""}
    night = reduced(tmp_path, flat_level_adu=level, plan=plan)
    flats = [row for name, row in night.exposures.items() if "flat" in name]
    assert any(row["state"] == "left out" and words in row["reason"] for row in flats)


def test_a_converter_of_coarse_steps_costs_neither_darks_nor_accuracy(tmp_path: Path) -> None:
    """Twelve bits in words of sixteen: the read noise is a third of a step, and most pixels of a
    bias frame have one value.
    """

    def coarse(raw: Path) -> None:
        for path in raw.rglob("*.fits"):
            edit(path, lambda pixels, _: (pixels // 16 * 16).astype(np.uint16))

    night = reduced(tmp_path, coarse, exposure_s=4.0, cadence_s=10.0)
    assert not night.outcome.night.left_out
    assert night.good.all()
    assert night.honest()
    assert not night.said("noisier than")
    assert not night.said("the read noise is")
    assert night.outcome.constants["step_adu"] == "16 ADU, as the frames show"
    assert np.sqrt(np.mean((night.error / night.sigma) ** 2)) < 1.5  # of 14 points


def test_an_offset_that_is_too_low_loses_no_frames_and_is_said(tmp_path: Path) -> None:
    """Half of the pixels of bias and dark frames are 0, and no star is seen on what is left."""

    def lowered(raw: Path) -> None:
        with fits.open(raw / "calibration" / "bias-01.fits") as hdus:
            level = float(np.median(hdus[0].data))
        for path in raw.rglob("*.fits"):
            edit(path, lambda pixels, _: np.clip(pixels - level, 0, None).astype(np.uint16))

    night = reduced(tmp_path / "a", lowered)
    assert not night.outcome.night.left_out
    assert night.good.all()
    assert night.honest()
    assert night.said("of the pixels of bias frames are 0")
    # Beyond the sky's own level the exposures are cut off, too.
    dark = {n: {"sky": 0.05} for n in range(COUNT)}
    night = reduced(tmp_path / "b", lowered, exposure_s=5.0, cadence_s=10.0, troubles=dark)
    assert night.said("of the pixels of exposures are 0")


def test_a_gain_that_changes_in_the_night_is_no_cloud(tmp_path: Path) -> None:
    def change(raw: Path) -> None:
        def halved(pixels: np.ndarray, header: fits.Header) -> np.ndarray:
            header["GAIN"] = 50
            return np.rint(520.0 + (pixels - 520.0) / 2.0).astype(np.uint16)

        for n in range(COUNT // 2 + 1, COUNT + 1):
            edit(raw / f"foxglove-{n:03d}.fits", halved)
        for path in sorted((raw / "calibration").glob("*.fits")):
            copy = path.with_name(f"low-{path.name}")
            shutil.copy(path, copy)
            edit(copy, halved)

    night = reduced(tmp_path, change)
    assert len(night.rows) == COUNT
    assert night.good.all()
    assert night.honest()
    assert night.said("2 settings of one camera")


def test_stars_far_out_of_focus_are_measured_as_stars(tmp_path: Path) -> None:
    rings = {n: {"ring_px": 11.0} for n in range(COUNT)}
    night = reduced(tmp_path, troubles=rings, shape=(640, 640), density=2500.0, exposure_s=120.0)
    assert len(night.rows) == COUNT
    assert night.honest()
    assert np.std(night.error) < 2.0 * np.median(night.sigma)
    assert night.said("far out of focus")


@pytest.mark.parametrize("width", [1.15, 1.5])
def test_undersampled_stars_are_no_cosmic_rays(tmp_path: Path, width: float) -> None:
    night = reduced(tmp_path, fwhm_px=width, change=target_of(12.9))
    assert len(night.rows) == COUNT
    assert night.good.sum() >= COUNT - 3
    assert night.honest()
    assert night.said("undersampled")
    # Nor are their errors smaller than they are said to be, by more than chance among 14.
    assert np.std(night.error) < 1.7 * np.median(night.sigma)


def test_a_packed_copy_of_an_exposure_is_not_a_second_one(tmp_path: Path) -> None:
    def pack(raw: Path) -> None:
        plain = (raw / "foxglove-003.fits").read_bytes()
        (raw / "foxglove-003.fits.gz").write_bytes(gzip.compress(plain))
        with fits.open(raw / "foxglove-004.fits") as hdus:
            image = fits.CompImageHDU(hdus[0].data, hdus[0].header, compression_type="RICE_1")
            fits.HDUList([fits.PrimaryHDU(), image]).writeto(raw / "z-004.fits.fz")

    night = reduced(tmp_path, pack)
    assert len(night.rows) == COUNT
    for name in ("raw/foxglove-003.fits.gz", "raw/z-004.fits.fz"):
        assert night.exposures[name]["state"] == "left out"
        assert "the same exposure as" in night.exposures[name]["reason"]


def test_one_undefined_pixel_in_calibration_does_not_lose_the_night(tmp_path: Path) -> None:
    def spoil(raw: Path) -> None:
        for name, value in (("bias-01", np.nan), ("dark-60s-01", np.inf), ("flat-V-01", np.nan)):
            path = raw / "calibration" / f"{name}.fits"
            edit(path, lambda pixels, _, value=value: _spoiled(pixels, value))

    night = reduced(tmp_path, spoil)
    assert len(night.rows) == COUNT
    assert night.good.all()
    assert night.honest()


def _spoiled(pixels: np.ndarray, value: float) -> np.ndarray:
    pixels[40, 50] = value
    return pixels.astype(np.float32)


def test_values_from_0_to_1_are_shares_of_the_converters_range(tmp_path: Path) -> None:
    def scale(raw: Path) -> None:
        for path in sorted(raw.rglob("*.fits")):
            edit(path, lambda pixels, _: (pixels / 65535.0).astype(np.float32))

    night = reduced(tmp_path, scale)
    assert len(night.rows) == COUNT
    assert night.good.all()
    assert night.honest()
    assert night.said("values from 0 to 1")


def test_an_exposure_time_of_nothing_is_no_exposure(tmp_path: Path) -> None:
    def spoil(raw: Path) -> None:
        def nothing(pixels: np.ndarray, header: fits.Header) -> np.ndarray:
            header["EXPTIME"] = 0.0
            return pixels.astype(np.uint16)

        edit(raw / "foxglove-002.fits", nothing)

    night = reduced(tmp_path, spoil)
    assert len(night.rows) == COUNT - 1
    assert "exposure time of 0 s" in night.exposures["raw/foxglove-002.fits"]["reason"]


def test_a_target_that_is_not_seen_has_a_limit_and_no_magnitude(tmp_path: Path) -> None:
    night = reduced(tmp_path, change=target_of(19.4))
    limits, magnitudes = numbers(night.rows, "limit_magnitude"), numbers(night.rows, "magnitude")
    unseen = np.isfinite(limits)
    assert unseen.sum() >= 0.7 * COUNT  # 19.4 to 20 is 3 to 5 times below the noise
    assert np.isnan(magnitudes[unseen]).all()
    # Three times the noise above what was measured: fainter than the truth in one of 700.
    assert np.all(limits[unseen] < 19.4 + 0.1)
    assert np.all(limits[unseen] > 17.0)
    assert night.said("the target was not seen on")


def test_without_bias_the_dark_of_another_length_does_what_it_can(tmp_path: Path) -> None:
    def other_length(raw: Path) -> None:
        def shorter(pixels: np.ndarray, header: fits.Header) -> np.ndarray:
            header["EXPTIME"] = 90.0
            return pixels.astype(np.uint16)

        for path in (raw / "calibration").glob("bias*"):
            path.unlink()
        for path in sorted((raw / "calibration").glob("dark*")):
            edit(path, shorter)

    night = reduced(tmp_path, other_length)
    assert night.honest()
    assert night.said("is taken off as it is")


def test_the_cameras_own_colour_scale_is_left_in_two_filters(tmp_path: Path) -> None:
    def blue(sky: Sky) -> None:
        target_of(12.6)(sky)
        row = sky.row(TARGET)
        sky.true_mag["B"][row] = 12.6 - 0.1
        for band in ("B", "V"):
            sky.catalogue_mag[band][row] = np.nan  # its colour is measured, not looked up

    night = reduced(
        tmp_path, change=blue, filters=("B", "V"), colour_terms={"B": -0.12, "V": 0.06},
        exposures=2 * COUNT, density=6000.0, shape=(480, 480),
    )  # fmt: skip
    name = np.array([row["filter"] for row in night.rows])
    standard = (
        night.error
        + numbers(night.rows, "transformed_magnitude")
        - numbers(night.rows, "magnitude")
    )
    for band, off in (("B", 0.08), ("V", 0.04)):
        of = name == band
        assert abs(np.median(night.error[of])) > 0.5 * off
        # Ten comparison stars known to 3 mmag, coefficients to some 6 mmag a magnitude.
        assert abs(np.nanmedian(standard[of])) < 0.012
    sigma = numbers(night.rows, "transformed_uncertainty")
    assert np.isfinite(sigma[night.good]).mean() > 0.9
    assert not night.said("colour scale")


def test_exposures_of_another_filter_than_they_say_are_doubted(tmp_path: Path) -> None:
    # B's light under V's name: a star redder by 1 mag seems fainter by 1.
    night = reduced(tmp_path / "b", colour_terms={"V": -1.0}, exposures=6, shape=(400, 400))
    assert night.said("the stars are as bright as in B, not as in V: off by −")
    assert any("if the filter was B" in one.remedy for one in night.outcome.remarks)
    # Without a filter, and with one that is as far from its band as filters are.
    clear = reduced(tmp_path / "clear", colour_terms={"V": 0.6}, exposures=6, shape=(400, 400))
    assert clear.said("the stars are not as bright as in V: off by +0.6")
    usual = reduced(tmp_path / "usual", colour_terms={"V": -0.15}, exposures=6, shape=(400, 400))
    assert not usual.said("as bright as in")


def test_without_a_colour_magnitudes_stay_as_they_are_and_that_is_said(tmp_path: Path) -> None:
    def unknown(sky: Sky) -> None:
        target_of(12.6)(sky)
        sky.catalogue_mag["B"][sky.row(TARGET)] = np.nan

    night = reduced(tmp_path, change=unknown, colour_terms={"V": 0.06})
    assert not np.isfinite(numbers(night.rows, "transformed_magnitude")).any()
    assert night.said("colour scale: the target's colour is not known")
    typed = reduced(
        tmp_path / "typed", change=unknown, colour_terms={"V": 0.06},
        plan={'name = "Foxglove 7"': 'name = "Foxglove 7"\ncolour = 0.62'},
    )  # fmt: skip
    assert np.isfinite(numbers(typed.rows, "transformed_magnitude")[typed.good]).all()
    assert typed.said("B − V 0.62, given, is taken for all its points")


def test_a_file_that_lost_the_zero_it_counts_from_is_set_aside(tmp_path: Path) -> None:
    """Its words are there, and its header no longer says that 32,768 belongs to each."""

    def lose(raw: Path) -> None:
        path = raw / "foxglove-004.fits"
        with fits.open(path) as hdus:
            words, header = hdus[0].data.astype(np.int32) - 32768, hdus[0].header.copy()
        fits.PrimaryHDU(words.astype(np.int16), header).writeto(path, overwrite=True)
        assert "BZERO" not in fits.getheader(path)

    night = reduced(tmp_path, lose)
    lost = night.exposures["raw/foxglove-004.fits"]
    assert lost["state"] == "set aside"
    assert "BZERO" in lost["reason"]
    assert len(night.rows) == COUNT - 1
    assert night.honest()


def test_a_dark_that_is_brighter_than_the_exposures_is_said(tmp_path: Path) -> None:
    def brighten(raw: Path) -> None:
        for path in (raw / "calibration").glob("dark*.fits"):
            edit(path, lambda pixels, _: (pixels + 400.0).astype(np.uint16))

    night = reduced(tmp_path, brighten)
    assert night.said("below zero")
    # A level that all pixels have in common is the sky's, and goes with it.
    assert night.honest()


def test_words_that_turned_over_into_negative_ones_are_saturated(tmp_path: Path) -> None:
    """Sixteen bits written as if they had a sign: what was above 32,767 is far below zero."""

    def turn_over(raw: Path) -> None:
        for path in raw.glob("foxglove-*.fits"):
            with fits.open(path) as hdus:
                words, header = hdus[0].data.astype(np.uint16), hdus[0].header.copy()
            assert words.max() > 32767
            fits.PrimaryHDU(words.view(np.int16), header).writeto(path, overwrite=True)

    night = reduced(tmp_path, turn_over, change=target_of(10.2))
    assert len(night.rows) == COUNT
    assert all("saturated" in row["flags"] for row in night.rows)
    assert not night.good.any()


def test_a_night_that_counts_from_below_zero_throughout_is_measured_as_it_is(
    tmp_path: Path,
) -> None:
    """All headers lost the zero alike: what is taken off lies as far below as the exposures."""

    def lose(raw: Path) -> None:
        for path in raw.rglob("*.fits"):
            with fits.open(path) as hdus:
                words, header = hdus[0].data.astype(np.int32) - 32768, hdus[0].header.copy()
            fits.PrimaryHDU(words.astype(np.int16), header).writeto(path, overwrite=True)

    night = reduced(tmp_path, lose)
    assert night.good.sum() >= COUNT - 1
    assert night.honest()
    assert not any("saturated" in row["flags"] for row in night.rows)
