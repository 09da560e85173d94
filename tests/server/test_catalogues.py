"""The observatory's catalogues: added, made into atlases, corrected, in order, and serving nights
of which nothing says where they are.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from astropy.io import fits
from astropy.table import Table

from narrow_beacon.simulate.cone_service import ConeService
from running import Client, Running, small_night

_PATIENCE_S = 60.0


@pytest.fixture(scope="module")
def client(running: Running) -> Iterator[Client]:
    client = running.client()
    yield client
    # They serve every campaign, those of other tests too.
    for one in catalogues(client):
        client.ask("DELETE", f"catalogues/{one['id']}").raise_for_status()


@pytest.fixture(scope="module")
def folder(running: Running) -> Path:
    """A night whose headers say nothing of where the telescope pointed, and the stars there."""
    folder = running.nights / "silent"
    small_night(folder, exposures=8, seed=41)
    (folder / "plan.toml").unlink()
    for path in (folder / "raw").rglob("*.fits"):
        with fits.open(path, mode="update") as hdus:
            for key in ("RA", "DEC", "OBJCTRA", "OBJCTDEC", "OBJECT", "CRVAL1", "CRVAL2"):
                hdus[0].header.remove(key, ignore_missing=True)
    return folder


@pytest.fixture
def service(folder: Path) -> Iterator[ConeService]:
    with ConeService(folder / "field.vot") as running:
        yield running


def catalogues(client: Client) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get("catalogues")["sources"]
    return found


def made(client: Client, name: str) -> dict[str, Any]:
    """The catalogue once it is made, or has failed."""
    end = time.monotonic() + _PATIENCE_S
    while time.monotonic() < end:
        one = next(c for c in catalogues(client) if c["name"] == name)
        if one["state"] != "making":
            return one
        time.sleep(0.1)
    raise AssertionError(f"{name} was not made in {_PATIENCE_S:g} s")


def test_a_table_with_odd_names_is_corrected_and_made_into_an_atlas(
    client: Client, folder: Path
) -> None:
    table = Table.read(folder / "field.vot")
    odd = {"ra": "a", "dec": "d", "V_mag": "visual", "B_mag": "blue", "name": "star"}
    for name, other in odd.items():
        table.rename_column(name, other)
    path = folder / "odd.csv"
    table[list(odd.values())].write(path, format="ascii.csv", overwrite=True)
    look = client.post("catalogues/look", {"kind": "file", "place": str(path)})
    assert "none of its 5 columns is a right ascension" in look["problem"]
    assert [c["name"] for c in look["columns"]] == list(odd.values())
    assert len(look["columns"][0]["values"]) == 3
    wish = {"kind": "file", "place": str(path), "name": "odd"}
    refused = client.ask("POST", "catalogues", wish)
    assert refused.status_code == 422
    said = {"ra": "a", "dec": "d", "V": "visual", "B": "blue"}
    look = client.post("catalogues/look", {"kind": "file", "place": str(path), "columns": said})
    assert look["problem"] == ""
    assert look["meaning"] == said | {"name": "star"}
    client.post("catalogues", wish | {"columns": said, "epoch_yr": 2016.0})
    one = made(client, "odd")
    assert (one["state"], one["stars"], one["bands"]) == ("ready", len(table), ["V", "B"])
    assert one["anywhere"]
    assert client.ask("POST", "catalogues", wish | {"columns": said}).status_code == 409


def test_a_night_that_is_silent_on_its_place_is_found_in_the_atlas(
    client: Client, folder: Path
) -> None:
    """No position, no scale, no catalogue of its own: the observatory's serves it."""
    campaign = int(
        client.post("campaigns", {"name": "silent", "folders": [str(folder / "raw")]})["id"]
    )
    client.wait(campaign)
    assert client.get(f"campaigns/{campaign}")["served_by"] == ["odd"]
    client.post(f"campaigns/{campaign}/jobs", {"kind": "reduce"})
    job = client.wait(campaign)
    assert job["state"] == "done", job["words"]
    told = client.get(f"campaigns/{campaign}")
    assert told["catalogue"]["name"] == "odd"
    assert told["catalogue"]["fetched"]
    exposures = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    assert all(e["placed"] for e in exposures)


def test_catalogues_have_an_order_and_are_taken_out(client: Client, service: ConeService) -> None:
    client.post("catalogues", {"kind": "service", "place": service.url, "name": "service"})
    assert [c["name"] for c in catalogues(client)] == ["odd", "service"]
    number = catalogues(client)[1]["id"]
    client.ask("PATCH", f"catalogues/{number}", {"earlier": True})
    assert [c["name"] for c in catalogues(client)] == ["service", "odd"]
    assert client.ask("DELETE", f"catalogues/{number}").status_code == 200
    assert [c["name"] for c in catalogues(client)] == ["odd"]
    assert client.ask("DELETE", f"catalogues/{number}").status_code == 404


def test_a_file_that_broke_meanwhile_is_told_and_harms_nothing(
    client: Client, folder: Path
) -> None:
    path = folder / "breaks.csv"
    lines = [f"{n},{n % 50},{10 + n % 5}.5" for n in range(300)]
    path.write_text("ra,dec,Vmag\n" + "\n".join(lines) + "\n")
    client.post("catalogues", {"kind": "file", "place": str(path), "name": "breaks"})
    assert made(client, "breaks")["state"] == "ready"
    path.write_text("no table any more")
    number = next(c["id"] for c in catalogues(client) if c["name"] == "breaks")
    client.ask("PATCH", f"catalogues/{number}", {"again": True})
    one = made(client, "breaks")
    assert one["state"] == "failed"
    assert "breaks.csv" in one["words"]
    client.ask("DELETE", f"catalogues/{number}")
