"""Where a field's stars come from: services that are busy, cut their answers short or are away,
several catalogues in order or as one, and tables of variable stars.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.merge import merged, with_variables
from narrow_beacon.core.catalogue.sky_index import separation_deg
from narrow_beacon.core.catalogue.sources import Source, Sources
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.reduce import sources as looked_up
from narrow_beacon.reduce.cone import search_cone
from narrow_beacon.reduce.sources import marked_variables, stars_about
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.sky import make_sky

RA, DEC = 12.0, 70.0


@pytest.fixture(scope="module")
def votable(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("sources") / "burnet.vot"
    make_sky(np.random.default_rng(12), "Burnet", RA, DEC, 3.0, 400.0).write_votable(path)
    return path


@pytest.fixture(scope="module")
def whole(votable: Path) -> StarTable:
    return read_catalogue(votable)


@pytest.fixture
def service(votable: Path) -> Iterator[ConeService]:
    with ConeService(votable) as running:
        yield running


def within(stars: StarTable, radius: float) -> set[str]:
    near = separation_deg(stars.ra_deg, stars.dec_deg, RA, DEC) <= radius
    return {stars.names[row] for row in np.flatnonzero(near)}


def table(ra: list[float], dec: list[float], **changes: object) -> StarTable:
    count = len(ra)
    nothing = np.zeros(count)
    values: dict[str, object] = {
        "names": tuple(f"s{n}" for n in range(count)), "ra_deg": np.array(ra),
        "dec_deg": np.array(dec), "pm_ra_mas_yr": nothing, "pm_dec_mas_yr": nothing,
        "epoch_yr": 2000.0, "bands": {}, "known_variable": np.zeros(count, bool),
    }  # fmt: skip
    return StarTable(**(values | changes))  # type: ignore[arg-type]


def test_a_service_that_cuts_its_answers_short_is_asked_for_smaller_circles(
    votable: Path, whole: StarTable
) -> None:
    with ConeService(votable, most_rows=200) as service:
        found = search_cone(service.url, RA, DEC, 0.7)
        assert service.asked > 7
    assert len(found) == len(set(found.names))
    assert set(found.names) == within(whole, 0.7)


def test_a_busy_service_is_asked_again(service: ConeService, whole: StarTable) -> None:
    service.refusals = 2
    assert set(search_cone(service.url, RA, DEC, 0.5).names) == within(whole, 0.5)
    assert service.asked == 3
    service.refusals = 99
    with pytest.raises(CatalogueError, match="HTTP status 503"):
        search_cone(service.url, RA, DEC, 0.5)


def test_what_a_service_sent_serves_without_network(
    service: ConeService, whole: StarTable, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sources = Sources((Source("service", service.url),), cache=tmp_path)
    wide = stars_about(sources, RA, DEC, 1.1)
    assert set(wide.stars.names) == within(whole, 1.1)
    asked = service.asked
    again = stars_about(sources, RA, DEC, 1.1)
    assert again.stars.names == wide.stars.names
    assert service.asked == asked
    assert not again.remarks
    # What is old is asked for anew, and serves all the same where nobody answers.
    monkeypatch.setattr(looked_up, "_FRESH_DAYS", -1)
    service.refusals = 10_000
    old = stars_about(sources, RA, DEC, 1.1)
    assert set(old.stars.names) == within(whole, 1.1)
    assert "does not answer: its stars are those that it sent on 20" in old.remarks[0].words
    with pytest.raises(CatalogueError, match="503"):
        stars_about(Sources(sources.stars), RA, DEC, 1.1)


def test_catalogues_are_tried_in_order(service: ConeService, votable: Path) -> None:
    away = Source("service", "http://127.0.0.1:9/cone", "first choice")
    found = stars_about(Sources((away, Source("service", service.url, "second"))), RA, DEC, 0.3)
    assert found.origins == ("second",)
    assert "cannot be reached" in found.remarks[0].words
    south = Source("file", str(votable), "north only")
    with pytest.raises(CatalogueError, match=r"north only: has no stars within 0\.3° of 12"):
        stars_about(Sources((south,)), RA, -DEC, 0.3)


def test_a_star_of_two_catalogues_is_one_star_with_the_bands_of_both() -> None:
    """The second one's epoch is 40 years later, and one star moved by 4″ meanwhile."""
    one = table(
        [10.0, 10.1, 10.2], [0.0, 0.0, 0.0], pm_ra_mas_yr=np.array([100.0, 0.0, 0.0]),
        bands={"V": Band(np.array([12.0, np.nan, 13.0]), np.full(3, 0.01))},
    )  # fmt: skip
    two = table(
        [10.0 + 4.0 / 3600, 10.1, 10.4], [0.0, 0.2 / 3600, 0.0], names=("a", "b", "c"),
        epoch_yr=2040.0, known_variable=np.array([True, False, False]),
        bands={
            "V": Band(np.array([12.5, 14.0, 15.0]), np.full(3, 0.02)),
            "R": Band(np.array([11.5, 13.5, 14.5]), np.full(3, 0.02)),
        },
    )  # fmt: skip
    both = merged([one, two])
    assert both.names == ("s0", "s1", "s2", "c")
    assert list(both.bands["V"].magnitude) == [12.0, 14.0, 13.0, 15.0]
    assert list(both.bands["V"].uncertainty) == [0.01, 0.02, 0.01, 0.02]
    assert np.array_equal(both.bands["R"].magnitude, [11.5, 13.5, np.nan, 14.5], equal_nan=True)
    assert list(both.known_variable) == [True, False, False, False]
    assert both.pm_ra_mas_yr[0] == 100.0


def test_known_variables_are_marked_with_how_they_vary(tmp_path: Path) -> None:
    path = tmp_path / "variables.csv"
    path.write_text("Name,RA,Dec,Type,Period\nTeasel V1,10.0004,0.0,EA,1.25\nTeasel V2,50,5,M,\n")
    known = read_catalogue(path, of_variables=True)
    assert known.known_variable.all()
    marked = with_variables(table([10.0, 10.1], [0.0, 0.0]), known)
    assert list(marked.known_variable) == [True, False]
    assert marked.notes == ("Teasel V1, EA, 1.25 d", "")
    stars, remarks = marked_variables(
        table([10.0, 10.1], [0.0, 0.0]), Sources(variables=(Source("file", str(path)),))
    )
    assert stars.notes == marked.notes
    assert not remarks
    gone = Sources(variables=(Source("file", str(tmp_path / "none.csv")),))
    _, remarks = marked_variables(stars, gone)
    assert "known variables of none.csv are not marked" in remarks[0].words
