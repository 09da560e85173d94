"""An atlas: any number of stars, found by position, and exposures placed anywhere on the sky."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from astropy.table import Table

from narrow_beacon.bench.fields import solve_field
from narrow_beacon.core.catalogue.atlas import Atlas, build_atlas, is_atlas
from narrow_beacon.core.catalogue.files import read_catalogue, stars_in_blocks
from narrow_beacon.core.catalogue.sky_index import (
    CELL_BAND,
    cells_about,
    separation_deg,
    sky_cells,
    unit_vectors,
)
from narrow_beacon.core.catalogue.table import Band, StarTable, joined
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.place.sky_patterns import SkyPatterns, build_sky_patterns
from narrow_beacon.core.place.solve import Hint
from narrow_beacon.core.place.whole_sky import SkySolver
from narrow_beacon.simulate.all_sky import WholeSky, expose, make_whole_sky

STARS = 150_000
AU_MAS = 206264806.247


@pytest.fixture(scope="module")
def sky() -> WholeSky:
    return make_whole_sky(3, STARS, faintest=8.0)


@pytest.fixture(scope="module")
def table(sky: WholeSky) -> StarTable:
    nothing = np.zeros(STARS)
    rng = np.random.default_rng(5)
    return StarTable(
        tuple(f"Tansy {n}" for n in range(STARS)), sky.ra_deg, sky.dec_deg,
        rng.normal(0, 20, STARS), rng.normal(0, 20, STARS), 2016.0,
        {"V": Band(sky.magnitude, nothing + 0.02)}, rng.random(STARS) < 0.01,
    )  # fmt: skip


@pytest.fixture(scope="module")
def atlas(table: StarTable, tmp_path_factory: pytest.TempPathFactory) -> Atlas:
    """Built from blocks in no order, the second one of another epoch."""
    order = np.random.default_rng(1).permutation(STARS)
    blocks = [table.take(part) for part in np.array_split(order, 4)]
    blocks[1] = blocks[1].moved_to(2000.0)
    folder = tmp_path_factory.mktemp("atlas") / "tansy"
    return build_atlas(iter(blocks), folder, origin="tansy.csv")


@pytest.fixture(scope="module")
def patterns(atlas: Atlas) -> SkyPatterns:
    return build_sky_patterns(atlas, atlas.folder / "patterns")


@pytest.mark.parametrize(
    ("ra", "dec", "radius"),
    [
        (359.9, 10.0, 3.0),
        (0.05, -40.0, 2.0),
        (120.0, 89.5, 3.0),
        (7.0, -88.0, 5.0),
        (200.0, 0, 0.4),
    ],
)
def test_a_circle_holds_the_stars_that_lie_in_it(
    table: StarTable, atlas: Atlas, ra: float, dec: float, radius: float
) -> None:
    found = atlas.circle(ra, dec, radius)
    inside = np.flatnonzero(separation_deg(table.ra_deg, table.dec_deg, ra, dec) <= radius)
    assert sorted(found.names) == sorted(table.names[row] for row in inside)
    assert np.all(np.diff(found.bands["V"].magnitude) >= -1e-6)
    rows = [table.row(name) for name in found.names]
    assert found.epoch_yr == table.epoch_yr
    assert np.allclose(found.dec_deg, table.dec_deg[rows], atol=1e-9)
    assert np.array_equal(found.known_variable, table.known_variable[rows])
    few = atlas.circle(ra, dec, radius, most=5)
    assert few.names == found.names[:5]


def test_a_star_is_found_by_its_name(table: StarTable, atlas: Atlas) -> None:
    star = atlas.find(" tansy 77777")
    assert star is not None
    assert star.dec_deg[0] == table.dec_deg[77777]
    assert atlas.find("Tansy") is None


def test_no_cell_of_a_circle_is_left_out() -> None:
    rng = np.random.default_rng(8)
    for _ in range(200):
        ra, dec, radius = rng.uniform(0, 360), rng.uniform(-90, 90), 10 ** rng.uniform(-2, 1.5)
        v = unit_vectors(ra, dec) + np.radians(radius) * 0.7 * rng.uniform(-1, 1, (300, 3))
        v /= np.linalg.norm(v, axis=1)[:, None]
        own_ra = np.degrees(np.arctan2(v[:, 1], v[:, 0])) % 360
        own_dec = np.degrees(np.arcsin(v[:, 2]))
        near = separation_deg(own_ra, own_dec, ra, dec) <= radius
        cells = sky_cells(own_ra[near] / 360, own_dec[near], 0.5)
        runs = cells_about(ra, dec, radius, 0.5)
        assert all(any(low <= cell <= high for low, high in runs) for cell in cells)
        assert all(low // CELL_BAND == high // CELL_BAND for low, high in runs)


def test_an_atlas_of_a_file_has_the_columns_that_the_observer_says(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    path = tmp_path / "odd.csv"
    Table(
        {"a": rng.uniform(0, 360, 40), "b": rng.uniform(-80, 80, 40), "lum": rng.uniform(9, 15, 40)}
    ).write(path, format="ascii.csv")
    with pytest.raises(CatalogueError, match="none of its 3 columns is a right ascension"):
        read_catalogue(path)
    with pytest.raises(CatalogueError, match="has no column “lumen”, named for V; it has lum"):
        read_catalogue(path, None, {"ra": "a", "dec": "b", "V": "lumen"})
    said = {"ra": "a", "dec": "b", "V": "lum"}
    atlas = build_atlas(stars_in_blocks(path, 2016.0, said), tmp_path / "odd", origin="odd.csv")
    assert is_atlas(tmp_path / "odd")
    assert (atlas.page.rows, atlas.page.bands, atlas.page.epoch_yr) == (40, ("V",), 2016.0)
    (tmp_path / "odd" / "stars.parquet").write_bytes(b"no parquet")
    with pytest.raises(CatalogueError, match="make it again"):
        Atlas(tmp_path / "odd")


def test_long_text_comes_in_blocks_with_nothing_lost(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A file of more than one block, with identifiers that no float can hold."""
    monkeypatch.setattr("narrow_beacon.core.catalogue.tables._TEXT_BLOCK_BYTES", 1 << 16)
    monkeypatch.setattr("narrow_beacon.core.catalogue.tables.BLOCK_ROWS", 6_000)
    path = tmp_path / "long.csv"
    first = 4_611_686_018_427_387_904
    lines = [f"{first + n},{n % 360},{n % 90},{10 + n % 5}.5" for n in range(20_000)]
    path.write_text("# made up\nsource_id,ra,dec,Vmag\n" + "\n".join(lines) + "\n")
    blocks = list(stars_in_blocks(path))
    assert len(blocks) > 1
    assert all(6_000 <= len(block) < 9_000 for block in blocks[:-1])
    whole = joined(blocks)
    assert len(whole) == 20_000
    assert whole.names[-1] == str(first + 19_999)


def test_parallax_moves_a_near_star_as_seen_from_the_earth() -> None:
    """Against the plain difference of the star's place in space and the Earth's."""
    ra, dec, mas = 217.4, -62.7, 768.5
    star = StarTable(
        ("near",), np.array([ra]), np.array([dec]), np.zeros(1), np.zeros(1), 2016.0, {},
        np.zeros(1, bool), np.array([mas]),
    )  # fmt: skip
    earth = np.array([0.7, -0.6, -0.26])
    seen = unit_vectors(ra, dec) * AU_MAS / mas - earth
    true_ra = np.degrees(np.arctan2(seen[1], seen[0])) % 360
    true_dec = np.degrees(np.arcsin(seen[2] / np.linalg.norm(seen)))
    got_ra, got_dec = star.at_epoch(2016.0, earth)
    assert separation_deg(got_ra[0], got_dec[0], true_ra, true_dec) * 3.6e6 < 0.02
    assert separation_deg(ra, dec, true_ra, true_dec) * 3.6e6 > 500
    assert replace(star, parallax_mas=None).at_epoch(2016.0, earth)[0][0] == ra


def test_an_exposure_of_which_nothing_is_known_is_placed_anywhere_on_the_sky(
    sky: WholeSky, atlas: Atlas, patterns: SkyPatterns
) -> None:
    solver = SkySolver(atlas, patterns, 2016.0)
    fields = [expose(sky, seed, 2.5, 15.0) for seed in range(15)]
    results = [solve_field(field, solver) for field in fields]
    assert all(result.placed for result in results)
    # A whole solution of an undistorted frame errs by less than its stars' 0.2 px; 2 px in corners.
    assert max(result.error_px for result in results) < 2.0


def test_an_exposure_of_another_sky_is_refused(atlas: Atlas, patterns: SkyPatterns) -> None:
    solver = SkySolver(atlas, patterns, 2016.0)
    other = make_whole_sky(4, STARS, faintest=8.0)
    fields = [expose(other, seed, 2.5, 15.0) for seed in range(6)]
    assert not any(solve_field(field, solver).placed for field in fields)


def test_a_good_hint_needs_no_patterns_of_the_whole_sky(sky: WholeSky, atlas: Atlas) -> None:
    field = expose(sky, 2, 5.0, 8.0)
    pointing = field.pointing
    hint = Hint(pointing.ra_deg + 1.0, pointing.dec_deg, 1.0)
    assert solve_field(field, SkySolver(atlas, None, 2016.0), hint).placed
    assert not solve_field(field, SkySolver(atlas, None, 2016.0)).placed
