"""A night whose files hold several exposures each, in the page: the same as one of single files."""

from __future__ import annotations

import csv
import io
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits

from narrow_beacon.simulate.plain import write_plain_night
from running import Client, Running

EXPOSURES, TOGETHER = 12, 4


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def campaigns(client: Client, running: Running) -> tuple[int, int]:
    """A campaign on single files, and one on the same exposures, several to a file."""
    single = running.nights / "single"
    write_plain_night(
        single, 23, exposures=EXPOSURES, shape=(360, 480), calibration=6, density=9000.0,
        cadence_s=240.0,
    )  # fmt: skip
    packed = running.nights / "packed"
    shutil.copytree(single, packed)
    pack(sorted((packed / "raw").glob("foxglove-*.fits")))
    return client.reduced(single, "single"), client.reduced(packed, "packed")


def pack(paths: list[Path]) -> None:
    """Put some exposures into each file, one behind the other with what each says of itself."""
    for begin in range(0, len(paths), TOGETHER):
        first, *others = paths[begin : begin + TOGETHER]
        with fits.open(first, mode="append") as hdus:
            for path in others:
                with fits.open(path) as own:
                    hdus.append(fits.ImageHDU(own[0].data.astype(np.uint16), own[0].header))
        for path in others:
            path.unlink()


def rows(client: Client, campaign: int) -> list[dict[str, str]]:
    sent = client.post(f"campaigns/{campaign}/report")
    text = client.ask("GET", f"reports/{sent['id']}/light_curve.csv").text
    return list(csv.DictReader(io.StringIO(text)))


def test_the_curve_is_the_same_to_the_last_digit(
    client: Client, campaigns: tuple[int, int]
) -> None:
    single, packed = (rows(client, campaign) for campaign in campaigns)
    assert len(single) == len(packed) == EXPOSURES
    assert len({row["exposure"] for row in packed}) == EXPOSURES
    for one, other in zip(single, packed, strict=True):
        assert {**one, "exposure": ""} == {**other, "exposure": ""}


def test_each_is_an_exposure_of_its_own_everywhere(
    client: Client, campaigns: tuple[int, int]
) -> None:
    page = f"campaigns/{campaigns[1]}"
    exposures: list[dict[str, Any]] = client.get(f"{page}/exposures")["exposures"]
    assert len({e["version"] for e in exposures}) == 1 + (EXPOSURES - 1) // TOGETHER
    tiles = {client.ask("GET", f"images/files/{e['id']}/0/0/0").content for e in exposures}
    assert len(tiles) == EXPOSURES
    assert client.get(f"{page}/report")["changes"] == []
    (kit,) = client.get(f"{page}/kits")["kits"]
    assert kit["exposures"] == EXPOSURES
    one = exposures[TOGETHER + 1]
    client.post(f"{page}/aside", {"ids": [one["id"]], "aside": True, "reason": "haze"})
    gone = client.get(f"{page}/report")["changes"]
    assert [change["file_id"] for change in gone] == [one["id"]]
