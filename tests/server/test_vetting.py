"""A night in which things went wrong: what is proposed, accepted, taken back, refused."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from running import ELSEWHERE, TROUBLED, Client, Running, troubled_night


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def troubled(running: Running, client: Client) -> int:
    """Sorted, corrected and measured step by step, so that nothing is set aside by itself."""
    folder = running.nights / "troubled"
    troubled_night(folder)
    made = client.post("campaigns", {"name": "troubled", "folders": [str(folder / "raw")]})
    number = int(made["id"])
    for kind in ("masters", "place", "census"):
        client.wait(number)
        client.post(f"campaigns/{number}/jobs", {"kind": kind})
    assert client.wait(number)["state"] == "done"
    return number


def by_name(client: Client, campaign: int) -> dict[str, dict[str, Any]]:
    found = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    return {Path(e["name"]).name: e for e in found}


def stage(client: Client, campaign: int, key: str) -> dict[str, Any]:
    found: dict[str, Any] = next(
        s for s in client.get(f"campaigns/{campaign}")["stages"] if s["key"] == key
    )
    return found


def points(client: Client, campaign: int) -> list[int]:
    found: list[int] = client.get(f"campaigns/{campaign}/curve")["filters"][0]["file_ids"]
    return found


def test_what_went_wrong_is_proposed_with_its_reason(client: Client, troubled: int) -> None:
    exposures = by_name(client, troubled)
    proposed = {name: e["proposal"] for name, e in exposures.items() if e["proposal"]}
    assert proposed.keys() == TROUBLED.keys()
    for name, reason in TROUBLED.items():
        assert proposed[name].startswith(reason)
    assert stage(client, troubled, "vet")["words"] == "4 proposed to set aside"
    # Nothing is decided for the observer.
    assert not any(e["aside_by"] for e in exposures.values())
    checks = client.get(f"campaigns/{troubled}/report")["checks"]
    assert any("4 exposures are proposed" in check["words"] for check in checks)


def test_another_field_is_told_with_its_distance(client: Client, troubled: int) -> None:
    exposure = by_name(client, troubled)[ELSEWHERE]
    words = exposure["proposal"]
    assert re.fullmatch(r"wrong field: the target is \d+\.\d′ outside the frame", words)
    # Its stars are measured like all others: with another target it may be of use.
    assert exposure["placed"]
    assert stage(client, troubled, "measure")["words"].startswith("20 of 20 measured")


def test_cloud_shows_as_lost_light(client: Client, troubled: int) -> None:
    share = by_name(client, troubled)["foxglove-010.fits"]["transparency"]
    assert share == pytest.approx(0.2, abs=0.03)


def test_proposals_are_taken_at_once_and_taken_back_at_once(client: Client, troubled: int) -> None:
    exposures = by_name(client, troubled)
    ids = [exposures[name]["id"] for name in TROUBLED]
    before = points(client, troubled)
    done = client.post(f"campaigns/{troubled}/proposals", {"ids": ids})
    assert done["words"] == "Set aside 4 as proposed."
    assert set(before) - set(points(client, troubled)) == set(ids)
    now = by_name(client, troubled)
    for name, reason in TROUBLED.items():
        assert now[name]["aside_by"] == "program"
        assert now[name]["aside"].startswith(reason)
    client.post(f"campaigns/{troubled}/undo")
    assert points(client, troubled) == before
    assert by_name(client, troubled).keys() == exposures.keys()
    assert {n for n, e in by_name(client, troubled).items() if e["proposal"]} == TROUBLED.keys()


def test_a_word_of_the_observer_outlasts_a_new_census(client: Client, troubled: int) -> None:
    kept = by_name(client, troubled)["foxglove-010.fits"]["id"]
    client.post(f"campaigns/{troubled}/aside", {"ids": [kept], "aside": False})
    client.post(f"campaigns/{troubled}/jobs", {"kind": "census"})
    assert client.wait(troubled)["state"] == "done"
    assert by_name(client, troubled)["foxglove-010.fits"]["proposal"] == ""
    client.post(f"campaigns/{troubled}/undo")
    assert by_name(client, troubled)["foxglove-010.fits"]["proposal"].startswith("cloud")


def test_reducing_all_of_it_sets_aside_as_one_action(client: Client, troubled: int) -> None:
    client.post(f"campaigns/{troubled}/jobs", {"kind": "reduce"})
    assert client.wait(troubled)["state"] == "done"
    aside = {n for n, e in by_name(client, troubled).items() if e["aside_by"] == "program"}
    assert aside == TROUBLED.keys()
    assert (
        client.get(f"campaigns/{troubled}")["undo"]["words"] == "set aside 4 exposures as proposed"
    )
    client.post(f"campaigns/{troubled}/undo")
    assert not any(e["aside_by"] for e in by_name(client, troubled).values())


def test_a_night_without_exposures_says_so_and_comes_back(client: Client, troubled: int) -> None:
    page, before = f"campaigns/{troubled}", client.get(f"campaigns/{troubled}/curve")
    every = [e["id"] for e in by_name(client, troubled).values()]
    client.post(f"{page}/corrections", {"ids": every, "kind": "dark"})
    now = client.get(f"{page}/curve")  # its census is still there
    assert (now["filters"], len(now["problems"])) == ([], 1)
    for told in ("exposures", "candidates", "radii", "stars", "sky", "vetting", "series", "report"):
        assert client.ask("GET", f"{page}/{told}").status_code in (200, 404, 409, 422), told
    client.post(f"{page}/undo")
    assert client.get(f"{page}/curve")["filters"] == before["filters"]


def test_files_of_another_campaign_are_out_of_reach(
    client: Client, troubled: int, campaign: int
) -> None:
    foreign = client.get(f"campaigns/{campaign}/exposures")["exposures"][0]["id"]
    for path, body in (
        ("aside", {"ids": [foreign], "aside": True}),
        ("proposals", {"ids": [foreign]}),
        ("corrections", {"ids": [foreign], "kind": "dark"}),
    ):
        answer = client.ask("POST", f"campaigns/{troubled}/{path}", body)
        assert answer.status_code == 404
    mine = client.get(f"campaigns/{campaign}/exposures")["exposures"][0]
    assert (mine["aside_by"], mine["id"]) == ("", foreign)
