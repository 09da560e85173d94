"""Catalogues: the same stars from any file or service, or a clear word on what is missing."""

from __future__ import annotations

import http.server
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from astropy.table import Table

from narrow_beacon.core.catalogue.columns import Column, propose_columns
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.sky_index import SkyIndex, separation_deg
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.reduce.cone import search_cone
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.sky import EPOCH_YR, Sky, make_sky


@pytest.fixture(scope="module")
def sky() -> Sky:
    made = make_sky(np.random.default_rng(2), "Sorrel", 12.0, 70.0, 0.8, 500.0)
    made.known_variable[3] = True
    return made


@pytest.fixture(scope="module")
def votable(sky: Sky, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("catalogue") / "sorrel.vot"
    sky.write_votable(path)
    return path


def same_as(sky: Sky, path: Path, tolerance: float = 1e-9) -> None:
    stars = read_catalogue(path)
    assert stars.names == tuple(sky.names)
    assert np.allclose(stars.ra_deg, sky.ra_deg % 360, atol=tolerance)
    assert np.allclose(stars.dec_deg, sky.dec_deg, atol=tolerance)
    assert np.allclose(stars.pm_ra_mas_yr, sky.pm_ra_mas_yr, atol=1e-6)
    assert np.allclose(stars.bands["V"].magnitude, sky.catalogue_mag["V"], atol=1e-6)
    assert np.allclose(stars.bands["B"].uncertainty, sky.catalogue_err["B"], atol=1e-6)
    assert stars.epoch_yr == EPOCH_YR
    assert list(np.flatnonzero(stars.known_variable)) == [3]


def test_all_four_kinds_of_file_give_the_same_stars(
    sky: Sky, votable: Path, tmp_path: Path
) -> None:
    same_as(sky, votable)
    table = sky.table()
    table.write(tmp_path / "s.ecsv", format="ascii.ecsv")
    table.write(tmp_path / "s.csv", format="ascii.csv")
    table.write(tmp_path / "s.fits", format="fits")
    for name in ("s.ecsv", "s.csv", "s.fits"):
        same_as(sky, tmp_path / name)


@pytest.mark.parametrize(
    ("ends", "text"),
    [
        ("semicolons", "name;RA (deg);Dec (deg);V [mag];e_V\nS 1;290,26083;38,21222;12,1;0,02\n"),
        ("tabs", "name\tRA (h)\tDec (°)\tV (mag)\te_V\nS 1\t19.350722\t38.21222\t12.1\t0.02\n"),
        ("sexagesimal", "name;ra;dec;V;e_V\nS 1;19 21 02,6;+38 12 44;12,1;0,02\n"),
        ("whole numbers", "name;ra;dec;V;e_V\nS 1;290.26083;38.21222;12.1;0.02\n"),
    ],
)
def test_a_spreadsheets_own_way_of_csv_is_read(tmp_path: Path, ends: str, text: str) -> None:
    path = tmp_path / f"{ends}.csv"
    path.write_text(text, encoding="utf-8-sig")
    stars = read_catalogue(path)
    assert stars.names == ("S 1",)
    assert stars.ra_deg == pytest.approx([290.26083], abs=1e-5)
    assert stars.dec_deg == pytest.approx([38.21222], abs=1e-5)
    assert stars.bands["V"].magnitude == pytest.approx([12.1])
    assert stars.bands["V"].uncertainty == pytest.approx([0.02])


def test_columns_are_told_by_ucd_name_and_unit() -> None:
    proposal = propose_columns(
        [
            Column("recno", "meta.record"), Column("_RAJ2000", "pos.eq.ra"), Column("DEJ2000"),
            Column("pmRA", "pos.pm;pos.eq.ra", "mas/yr"), Column("Gmag", "phot.mag;em.opt", "mag"),
            Column("e_Vmag", "stat.error;phot.mag;em.opt.V"), Column("Vmag", "phot.mag;em.opt.V"),
            Column("designation", "", "", numeric=False), Column("rmag"), Column("rmag_err"),
        ]
    )  # fmt: skip
    assert (proposal.ra, proposal.dec, proposal.name) == ("_RAJ2000", "DEJ2000", "designation")
    assert proposal.bands == {
        "G": ("Gmag", None),
        "V": ("Vmag", "e_Vmag"),
        "r": ("rmag", "rmag_err"),
    }


@pytest.mark.parametrize(
    ("name", "ucd", "band"),
    [
        ("phot_bp_mean_mag", "phot.mag;em.opt.B", "BP"),
        ("phot_rp_mean_mag", "phot.mag;em.opt.R", "RP"),
        ("phot_g_mean_mag", "phot.mag;em.opt", "G"), ("BPmag", "phot.mag;em.opt.B", "BP"),
        ("Gmag", "", "G"), ("gmag", "", "g"), ("r'mag", "phot.mag;em.opt.R", "r"),
        ("i'mag", "phot.mag;em.opt.I", "i"), ("halpha", "phot.mag", "Ha"), ("Hamag", "", "Ha"),
        ("Hmag", "phot.mag;em.IR.H", "H"), ("Ksmag", "", "K"), ("johnson_mag_v", "", "V"),
        ("sloan_r", "", "r"), ("Rcmag", "", "R"), ("brightness", "phot.mag;em.opt.V", "V"),
        ("rp", "", "r"), ("recno", "", None), ("PhotFlag", "", None),
    ],
)  # fmt: skip
def test_a_column_has_the_band_that_its_name_says(name: str, ucd: str, band: str | None) -> None:
    """A UCD does not tell Gaia's BP from Johnson's B, nor Sloan's r from Cousins's R."""
    found = propose_columns([Column("ra"), Column("dec"), Column(name, ucd, "mag")]).bands
    assert found == ({band: (name, None)} if band else {})


def test_gaia_is_told_by_its_pair_of_bands() -> None:
    columns = [Column("bp"), Column("rp"), Column("e_bp"), Column("rp_error"), Column("rmag")]
    assert propose_columns(columns).bands == {
        "BP": ("bp", "e_bp"), "RP": ("rp", "rp_error"), "r": ("rmag", None),
    }  # fmt: skip


def test_sexagesimal_positions_and_other_units_are_understood(tmp_path: Path) -> None:
    (tmp_path / "c.csv").write_text("id,ra,dec,V\na,19 41 02.6,+38 12 44,12.1\nb,,,12\n")
    stars = read_catalogue(tmp_path / "c.csv", 2015.5)
    assert len(stars) == 1  # a star without a position is none
    assert stars.ra_deg[0] == pytest.approx(295.260833, abs=1e-5)
    assert stars.epoch_yr == 2015.5
    assert stars.row(" A ") == 0


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("name,ra,dec\na,1,2\n", "none of its 3 columns is a magnitude"),
        ("name,V\na,12\n", "none of its 2 columns is a right ascension"),
        ("<VOTABLE", "not readable"),
    ],
)
def test_a_catalogue_that_lacks_something_says_what(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "c.csv").write_text(text)
    with pytest.raises(CatalogueError, match=words):
        read_catalogue(tmp_path / "c.csv")


def test_an_unknown_star_names_the_close_ones(votable: Path) -> None:
    with pytest.raises(CatalogueError, match="close names: Sorrel 1010"):
        read_catalogue(votable).row("Sorel 1010")


def test_proper_motion_moves_stars_along_the_sky(votable: Path) -> None:
    stars = read_catalogue(votable)
    ra, dec = stars.at_epoch(2026.0)
    moved = separation_deg(ra, dec, stars.ra_deg, stars.dec_deg) * 3.6e6
    assert np.allclose(
        moved, 10 * np.hypot(stars.pm_ra_mas_yr, stars.pm_dec_mas_yr), rtol=1e-3, atol=1e-3
    )


def test_the_index_finds_across_the_meridian_and_at_the_pole() -> None:
    index = SkyIndex(np.array([359.99, 0.01, 180.0, 0.0]), np.array([0.0, 0.0, 89.99, 89.99]))
    assert list(index.within(0.0, 0.0, 0.02)) == [0, 1]
    assert list(index.within(90.0, 90.0, 0.02)) == [2, 3]
    assert index.nearest(0.02, 0.0)[0] == 1


def test_a_cone_search_gives_the_stars_of_the_circle(sky: Sky, votable: Path) -> None:
    with ConeService(votable) as service:
        found = search_cone(service.url, 12.0, 70.0, 0.2)
    inside = separation_deg(sky.ra_deg, sky.dec_deg, np.float64(12.0), np.float64(70.0)) <= 0.2
    assert sorted(found.names) == sorted(np.array(sky.names)[inside])
    assert set(found.bands) == {"B", "V"}


@pytest.mark.parametrize(
    ("ra", "radius", "words"),
    [
        (400.0, 0.1, "refused the request: “RA = 400"),
        (12.0, 50.0, "SR = 50"),
        (192.0, 0.1, "no stars"),
    ],
)
def test_a_service_that_refuses_or_has_nothing_is_quoted(
    votable: Path, ra: float, radius: float, words: str
) -> None:
    with ConeService(votable) as service, pytest.raises(CatalogueError, match=words):
        search_cone(service.url, ra, 0.0, radius)


class _Odd(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path.startswith("/slow"):
            self.server.released.wait(10)  # type: ignore[attr-defined]
        goals = {"/elsewhere": "http://127.0.0.1:9/secret", "/round": "/round", "/near": "/page"}
        goal = goals.get(self.path.split("?")[0])
        self.send_response(302 if goal else 500 if self.path.startswith("/broken") else 200)
        if goal:
            self.send_header("Location", goal)
        self.end_headers()
        self.wfile.write(b"<html>Please log in</html>")

    def log_message(self, *_: object) -> None: ...


@pytest.fixture
def odd_service() -> Iterator[str]:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Odd)
    server.released = threading.Event()  # type: ignore[attr-defined]
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.released.set()  # type: ignore[attr-defined]
    server.shutdown()
    thread.join()
    server.server_close()


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("/slow", "no answer within 0.2 s"),
        ("/broken", "HTTP status 500"),
        ("/elsewhere", "sends on to 127.0.0.1:9; give the address there"),
        ("/round", "sends on and on"),
        ("/near", r"sent no VOTable"),
        ("/page", r"sent no VOTable; is this the address of a cone search\?$"),
    ],
)
def test_a_service_in_trouble_gives_a_clear_word(odd_service: str, path: str, words: str) -> None:
    with pytest.raises(CatalogueError, match=words):
        search_cone(odd_service + path, 1.0, 1.0, 0.1, timeout_s=0.2)


def test_a_service_that_is_not_there_is_named() -> None:
    with pytest.raises(CatalogueError, match="cannot be reached"):
        search_cone("http://127.0.0.1:9/cone", 1.0, 1.0, 0.1, timeout_s=2)


def test_columns_keep_their_meaning_in_a_fits_table_without_ucds(tmp_path: Path) -> None:
    Table({"star": ["a"], "ra": [1.0], "dec": [2.0], "R_mag": [11.0], "R_err": [0.02]}).write(
        tmp_path / "t.fits"
    )
    band = read_catalogue(tmp_path / "t.fits").bands["R"]
    assert (band.magnitude[0], band.uncertainty[0]) == (11.0, 0.02)


def test_what_stands_for_no_magnitude_is_none(tmp_path: Path) -> None:
    path = tmp_path / "gaps.csv"
    rows = [f"s{n},10.{n},20,{v},0.01" for n, v in enumerate((99.999, -99, 0.0, "", "nan", 12.5))]
    path.write_text("\n".join(["name,ra,dec,V,e_V", *rows]) + "\n", encoding="utf-8")
    magnitude = read_catalogue(path).bands["V"].magnitude
    assert np.isfinite(magnitude).tolist() == [False] * 5 + [True]


def test_an_uncertainty_of_nothing_is_unknown(tmp_path: Path) -> None:
    text = "name,ra,dec,V_mag,V_err\na,1,2,11,0\nb,1,3,11,\nc,1,4,11,0.004\nd,1,5,11,-1\n"
    (tmp_path / "c.csv").write_text(text)
    assert read_catalogue(tmp_path / "c.csv").bands["V"].uncertainty.tolist() == [
        0.02, 0.02, 0.004, 0.02,
    ]  # fmt: skip
