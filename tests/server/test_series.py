"""Periods, times of minimum, elements and the field's other stars through the server."""

from __future__ import annotations

import io
import re
import zipfile
from typing import Any

import numpy as np
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
    assert re.fullmatch(r"NB J\d{6}\.\d[+-]\d{6}", target[0]["designation"])
    row = client.get(f"campaigns/{campaign}/curve")["cast"]["comparison"][0]
    chart = client.ask("GET", f"campaigns/{campaign}/finder.svg?row={row}&width=12")
    assert chart.status_code == 200
    assert chart.content != client.ask("GET", f"campaigns/{campaign}/finder.svg?width=12").content
    assert client.ask("GET", f"campaigns/{campaign}/finder.svg?row=999999").status_code == 404


def test_rules_for_points_change_the_curve_at_once_and_can_be_undone(
    client: Client, campaign: int
) -> None:
    path = f"campaigns/{campaign}"
    nothing = client.get(f"{path}/points")
    before = client.get(f"{path}/curve")["filters"][0]
    said = {**nothing, "take_out": ["airmass", "star width", "sky", "place"], "nights_alike": True}
    made = client.ask("PUT", f"{path}/points", said).json()["filters"][0]
    words = "airmass, star width, sky, place, nights' means taken out, by up to"
    assert made["taken"].startswith(words)
    one, other = (f["series"][0] for f in (before, made))
    moved = [a != b for a, b in zip(one["magnitude"], other["magnitude"], strict=True) if a]
    assert all(moved)
    assert all("trend" in word for word in other["flags"].values())
    strict = {**nothing, "most_uncertainty_mag": min(s for s in one["uncertainty"] if s)}
    ruled = client.ask("PUT", f"{path}/points", strict).json()["filters"][0]["series"][0]
    assert len(ruled["doubtful"]) >= sum(a is not None for a in one["magnitude"]) - 1
    assert "uncertainty above" in ruled["flags"][str(ruled["doubtful"][0])]
    assert client.ask("PUT", f"{path}/points", {"without": ["bad luck"]}).status_code == 422
    for _ in range(2):
        client.post(f"{path}/undo")
    assert client.get(f"{path}/points") == nothing
    again = client.get(f"{path}/curve")["filters"][0]
    assert again["series"][0]["magnitude"] == one["magnitude"]


def test_figures_come_as_large_as_they_are_asked_for(client: Client, campaign: int) -> None:
    path = f"campaigns/{campaign}"
    small = client.ask("GET", f"{path}/curve.svg?width=9&height=6&title=Sorrel").text
    assert 'width="' in small
    width = float(re.search(r'width="([\d.]+)pt"', small)[1])  # type: ignore[index]
    assert width == pytest.approx(9 / 2.54 * 72, rel=0.15)
    pdf = client.ask("GET", f"{path}/phase.pdf?period=0.3&epoch=2461326.3&width=9&height=6")
    assert pdf.content.startswith(b"%PDF")
    assert client.ask("GET", f"{path}/curve.png").content.startswith(b"\x89PNG")
    assert client.ask("GET", f"{path}/curve.doc").status_code == 404
    assert client.ask("GET", f"{path}/curve.svg?width=900").status_code == 422


def test_a_night_sheet_stands_alone(client: Client, campaign: int) -> None:
    page = client.ask("GET", f"campaigns/{campaign}/sheet.html")
    assert page.status_code == 200
    text = page.text
    assert text.count("<svg") == 2
    # Nothing is fetched from elsewhere, and no part of one figure is taken for the other's.
    assert not re.findall(r'(?:src|href)="(?!#)[^"]+"', text)
    names = re.findall(r' id="([^"]+)"', text)
    assert len(names) == len(set(names))
    for words in ("What the star did", "Held against", "The night", "How it was measured"):
        assert words in text
    assert client.ask("GET", f"campaigns/{campaign}/sheet.pdf").content.startswith(b"%PDF")
    assert client.ask("GET", f"campaigns/{campaign}/sheet.doc").status_code == 404


def test_reports_go_out_new_or_changed_are_held_back_and_marked(
    client: Client, campaign: int
) -> None:
    path = f"campaigns/{campaign}"
    first = client.get(f"{path}/report")
    assert first["scope"] == "all"
    before = bool(first["reports"])  # by another test, which had all points
    held = client.get(f"{path}/curve")["filters"][0]["file_ids"][0]
    ask = client.session.put
    assert ask(f"{client.url}/api/{path}/reporting", json={"held": [held]}).ok
    assert client.get(f"{path}/report")["points"] == first["points"] - 1
    made = client.post(f"{path}/report")
    assert made["points"] == first["points"] - 1
    assert ask(f"{client.url}/api/{path}/reporting", json={"held": [], "scope": "new"}).ok
    # Only what was held back is new now.
    assert client.get(f"{path}/report")["points"] == (0 if before else 1)
    sent = client.ask("PATCH", f"reports/{made['id']}", {"recipient": "a society", "note": "r 7"})
    assert sent.json()["sent"]
    told = client.get(f"{path}/report")["reports"][0]
    assert (told["recipient"], told["note"]) == ("a society", "r 7")
    # Another radius: what went out is otherwise now, point by point, and why.
    filters = client.get(f"{path}/curve")["filters"]
    steps = {f["filter"]: f["step"] - 3 for f in filters}
    client.post(f"{path}/recipe", {"steps": steps, "automatic": False})
    assert ask(f"{client.url}/api/{path}/reporting", json={"scope": "changed"}).ok
    after = client.get(f"{path}/report")
    assert 0 < len(after["changes"]) <= first["points"]
    assert after["points"] <= len(after["changes"])
    change = next(one for one in after["changes"] if one["report"] == made["id"])
    assert (change["report"], change["why"]) == (made["id"], "another radius")
    assert abs(change["now"] - change["before"]) > 0.0005
    # In a layout with words for it, a point that is held back now is taken back.
    client.ask("PATCH", path, {"layout": "fixed"})
    assert ask(f"{client.url}/api/{path}/reporting", json={"held": [change["file_id"]]}).ok
    preview = client.get(f"{path}/report")["preview"].splitlines()
    words = [line[0] for line in preview[3:-1]]
    assert words.count("D") == 1
    assert set(words) <= {"D", "R"}
    bundle = client.ask("GET", f"reports/{made['id']}/bundle.zip")
    with zipfile.ZipFile(io.BytesIO(bundle.content)) as packed:
        assert {"report.txt", "light_curve.fits", "provenance.json"} <= set(packed.namelist())
    client.ask("PATCH", path, {"layout": "plain"})
    assert ask(f"{client.url}/api/{path}/reporting", json={"scope": "all", "held": []}).ok


def test_a_layout_of_ones_own_is_tried_kept_used_and_deleted(client: Client, campaign: int) -> None:
    path = f"campaigns/{campaign}"
    text = client.get(f"{path}/layout")["text"]
    tried = client.post(
        f"{path}/layout/try", {"text": text.replace('"magnitude"', '"brightness"', 1)}
    )
    assert "no value “brightness”" in " ".join(tried["mistakes"])
    own = text.replace("digits = 4", "digits = 2")
    assert client.post(f"{path}/layout/try", {"text": own})["preview"]
    put = client.session.put
    kept = put(f"{client.url}/api/layouts", json={"name": "two digits", "text": own})
    assert kept.ok, kept.text
    assert put(f"{client.url}/api/layouts", json={"name": "plain", "text": own}).status_code == 409
    assert put(f"{client.url}/api/layouts", json={"name": "x", "text": "a ="}).status_code == 422
    client.ask("PATCH", path, {"layout": "kept:two digits"})
    page = client.get(f"{path}/report")
    assert {"key": "kept:two digits", "name": "two digits", "own": True} in [
        {k: one[k] for k in ("key", "name", "own")} for one in page["layouts"]
    ]
    made = client.post(f"{path}/report")
    line = client.ask("GET", f"reports/{made['id']}/report.txt").text.splitlines()[5].split()
    assert len(line[3].partition(".")[2]) == 2
    assert client.ask("DELETE", "layouts/two digits").status_code == 409  # in use
    client.ask("PATCH", path, {"layout": "plain"})
    assert client.ask("DELETE", "layouts/two digits").ok


def test_a_curve_from_elsewhere_is_laid_over_and_told_apart(
    client: Client, campaign: int, running: Running
) -> None:
    path = f"campaigns/{campaign}"
    curve = client.get(f"{path}/curve")["filters"][0]
    own = next(s for s in curve["series"] if s["role"] == "target")["magnitude"]
    shown = curve["standard"]["magnitude"] if curve["standard"] else own
    rows = [
        f"{bjd:.6f},{value + 0.03:.5f},0.01,{curve['filter']}"
        for bjd, value in zip(curve["bjd_tdb"], shown, strict=True)
        if value is not None
    ]
    # Ten days later they saw an eclipse.
    eclipse = curve["bjd_tdb"][0] + 10.0
    noise = np.random.default_rng(2).normal(0, 0.005, 60)
    for away, off in zip(np.linspace(-0.08, 0.08, 60), noise, strict=True):
        dip = 12.0 + 0.4 * np.exp(-((away / 0.025) ** 2)) + off
        rows.append(f"{eclipse + away:.6f},{dip:.5f},0.005,{curve['filter']}")
    theirs = running.nights / "theirs.csv"
    theirs.write_text("\n".join(["bjd_tdb,mag,err,filter", *rows]) + "\n")
    (told,) = client.post(f"{path}/curves", {"file": str(theirs), "name": "a friend's"})["curves"]
    assert (told["points"], told["problem"]) == (len(rows), "")
    assert told["offset_mag"] == pytest.approx(0.03, abs=2e-3)
    assert told["columns"]["magnitude"] == "mag"
    # It is searched for periods, alone or with one's own, and its minima are times from elsewhere.
    counts = {
        of: client.post(f"{path}/periods", {"of": of, "kind": "waves", "shortest": 0.02})["points"]
        for of in ("own", "others", "both")
    }
    assert counts["others"] == len(rows)
    assert counts["both"] == counts["own"] + counts["others"]
    turns = client.get(f"{path}/series")["turns"]
    (turn,) = [t for t in turns if t["source"].startswith("a friend's") and t["bjd"] > eclipse - 1]
    assert turn["bjd"] == pytest.approx(eclipse, abs=4 * turn["uncertainty_d"])
    assert 0 < (turn["bjd"] - turn["hjd_utc"]) * 86400 < 75  # leap seconds, and the Sun's wobble
    theirs.unlink()
    (gone,) = client.get(f"{path}/curves")["curves"]
    assert gone["problem"]
    assert client.ask("DELETE", f"{path}/curves/0").json()["curves"] == []
    (running.nights / "notes.csv").write_text("a,b\n1,2\n")
    refused = client.ask("POST", f"{path}/curves", {"file": str(running.nights / "notes.csv")})
    assert refused.status_code == 422
    assert "is a time" in refused.text
    for _ in range(2):
        client.post(f"{path}/undo")
