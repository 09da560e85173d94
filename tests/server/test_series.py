"""Periods, times of minimum, elements and the field's other stars through the server."""

from __future__ import annotations

from typing import Any

import pytest

from running import Client, Running


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


def put(client: Client, campaign: int, body: dict[str, Any]) -> Any:
    answer = client.ask("PUT", f"campaigns/{campaign}/series", body)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_periods_are_searched_as_asked(client: Client, campaign: int) -> None:
    found = client.post(f"campaigns/{campaign}/periods", {"kind": "waves", "shortest": 0.02})
    assert found["points"] > 10
    assert found["kind"] == "waves"
    assert len(found["frequency"]) == len(found["power"]) == len(found["window"]) <= 1600
    assert found["searched_per_d"] == pytest.approx(50.0, rel=0.05)
    best = found["peaks"][0]
    assert best["power"] == max(peak["power"] for peak in found["peaks"])
    # Off the curve, it is not found again.
    left = client.post(
        f"campaigns/{campaign}/periods",
        {"kind": "waves", "shortest": 0.02, "without": [best["period_d"]]},
    )
    assert all(abs(p["period_d"] / best["period_d"] - 1) > 1e-3 for p in left["peaks"][:1])
    none = client.post(f"campaigns/{campaign}/periods", {"filter": "H-alpha"})
    assert (none["points"], none["peaks"]) == (0, [])
    assert "no good point" in none["problem"]


def test_elements_are_kept_chosen_and_taken_back(client: Client, campaign: int) -> None:
    before = client.get(f"campaigns/{campaign}/series")
    assert (before["elements"], before["chosen"]) == ([], None)
    own = {"epoch_bjd": 2461304.41, "period_d": 0.3137, "source": "typed"}
    kept = put(client, campaign, {"elements": [own], "chosen": 0})
    assert kept["chosen"] == 0
    assert kept["elements"][0]["period_d"] == 0.3137
    # Times from elsewhere take part at once, and are counted by the elements.
    times = [
        {"bjd": 2461304.41 + 0.3137 * n + off, "uncertainty_d": 1e-4, "source": "a friend"}
        for n, off in ((0, 0.0), (10, 1e-4), (51, -1e-4), (200, 2e-4))
    ]
    told = put(client, campaign, {"times": times})
    theirs = [turn for turn in told["turns"] if turn["source"] == "a friend"]
    assert [turn["cycle"] for turn in theirs] == [0, 10, 51, 200]
    assert theirs[1]["o_minus_c_d"] == pytest.approx(1e-4, abs=1e-8)
    corrected = put(client, campaign, {"cycles": {theirs[3]["key"]: 199}})
    last = next(t for t in corrected["turns"] if t["key"] == theirs[3]["key"])
    assert (last["cycle"], last["given"]) == (199, True)
    client.post(f"campaigns/{campaign}/undo")
    fitted = client.post(f"campaigns/{campaign}/series/fit", {"quadratic": False})
    best = fitted["elements"][fitted["chosen"]]
    assert abs(best["period_d"] - 0.3137) < 5 * best["period_uncertainty_d"]
    assert "fitted to" in best["source"]
    for _ in range(3):
        client.post(f"campaigns/{campaign}/undo")
    after = client.get(f"campaigns/{campaign}/series")
    assert (after["elements"], after["chosen"]) == ([], None)


def test_a_fit_without_elements_says_what_is_missing(client: Client, campaign: int) -> None:
    answer = client.ask("POST", f"campaigns/{campaign}/series/fit", {"quadratic": False})
    assert answer.status_code == 409
    assert "Choose a period first" in answer.text


def test_the_field_is_surveyed(client: Client, campaign: int) -> None:
    found = client.get(f"campaigns/{campaign}/survey")
    assert found["stars"] > 10
    figures = [one["significance"] for one in found["suspects"]]
    assert figures == sorted(figures, reverse=True)
    assert all(figure >= found["least"] for figure in figures)
    target = [one for one in found["suspects"] if one["role"] == "target"]
    # The plain night's target eclipses.
    assert target
    assert target[0]["known"]
    assert len(target[0]["bjd"]) == len(target[0]["curve"])
