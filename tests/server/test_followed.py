"""Several targets in one field through the server: the same curves as on the command line, one in
front at a time, each change undone like any other.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from narrow_beacon.cli import main
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.simulate.plain import write_plain_night
from running import Client, Running


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def night(running: Running) -> Path:
    """A night whose plan follows three stars, reduced on the command line."""
    folder = running.nights / "several"
    write_plain_night(folder, 9, exposures=8, shape=(320, 448), density=14000.0, calibration=4)
    plan = folder / "plan.toml"
    more = (
        '[[target]]\nname = "Foxglove 21"\n'
        '[[target]]\nname = "Foxglove 30"\ncheck = ["Foxglove 25", "Foxglove 27"]\n'
    )
    plan.write_text(plan.read_text().replace("[target]", "[[target]]") + more)
    done = CliRunner().invoke(main, ["reduce", str(plan)])
    assert done.exit_code == 0, done.output
    return folder


@pytest.fixture(scope="module")
def campaign(client: Client, night: Path) -> int:
    made = client.post(
        "campaigns", {"name": "several", "folders": [str(night / "raw")], "reduce": True}
    )
    assert client.wait(made["id"])["state"] == "done"
    return int(made["id"])


def front(client: Client, campaign: int) -> str:
    (name,) = (t["name"] for t in client.get(f"campaigns/{campaign}")["targets"] if t["in_front"])
    return str(name)


def exported(client: Client, campaign: int) -> list[str]:
    report = client.post(f"campaigns/{campaign}/report")
    answer = client.session.get(f"{client.url}/api/reports/{report['id']}/light_curve.csv")
    answer.raise_for_status()
    return list(answer.text.splitlines())


def seen(curve: dict[str, Any]) -> list[Any]:
    return [(s["name"], s["role"], s["magnitude"]) for s in curve["filters"][0]["series"]]


def test_the_page_gives_every_target_the_command_lines_numbers(
    client: Client, campaign: int, night: Path
) -> None:
    told = (night / "out" / "light_curve.csv").read_text().splitlines()
    names = [t["name"] for t in client.get(f"campaigns/{campaign}")["targets"]]
    assert len(names) == 3
    assert names[1:] == ["Foxglove 21", "Foxglove 30"]
    for place, name in enumerate(names):
        client.post(f"campaigns/{campaign}/targets/front", {"place": place})
        own = [told[0], *(line for line in told[1:] if f",{name}," in line)]
        assert len(own) > 6
        assert exported(client, campaign) == own
    checks = [s for s in client.get(f"campaigns/{campaign}/curve")["filters"][0]["series"]
              if s["role"] == "check"]  # fmt: skip
    assert [s["name"] for s in checks] == ["Foxglove 25", "Foxglove 27"]
    client.post(f"campaigns/{campaign}/targets/front", {"place": 0})


def test_another_is_followed_left_and_taken_back(client: Client, campaign: int) -> None:
    before = client.get(f"campaigns/{campaign}/curve")
    first = front(client, campaign)
    followed = {t["name"] for t in client.get(f"campaigns/{campaign}")["targets"]}
    stars = client.get(f"campaigns/{campaign}/field?filter=V")["stars"]
    other = max((s for s in stars if s["name"] not in followed), key=lambda s: s["score"])
    curve = client.post(f"campaigns/{campaign}/targets", {"row": other["row"]})
    assert front(client, campaign) == other["name"]
    target = curve["filters"][0]["series"][0]
    assert (target["role"], target["name"]) == ("target", other["name"])
    chosen = {s["name"] for s in curve["filters"][0]["series"]}
    assert not chosen & followed
    # Its parts can be given like the first one's, and stay its own.
    cast = curve["cast"]
    fewer = {"target": cast["target"], "comparison": cast["comparison"][:3],
             "checks": cast["comparison"][3:5]}  # fmt: skip
    changed = client.post(f"campaigns/{campaign}/cast", fewer)
    client.post(f"campaigns/{campaign}/targets/front", {"place": 0})
    assert front(client, campaign) == first
    assert seen(client.get(f"campaigns/{campaign}/curve")) == seen(before)
    # Followed already: it is turned to, with the cast that it has.
    again = client.post(f"campaigns/{campaign}/targets", {"row": other["row"]})
    assert seen(again) == seen(changed)
    # After a night more, or another look at this one, its cast is as the observer gave it.
    client.post(f"campaigns/{campaign}/jobs", {"kind": "settle"})
    client.wait(campaign)
    assert seen(client.get(f"campaigns/{campaign}/curve")) == seen(changed)
    answer = client.ask("DELETE", f"campaigns/{campaign}/targets/3")
    assert answer.status_code == 200
    assert len(client.get(f"campaigns/{campaign}")["targets"]) == 3
    client.post(f"campaigns/{campaign}/undo")
    assert front(client, campaign) == other["name"]
    assert client.ask("DELETE", f"campaigns/{campaign}/targets/9").status_code == 404
    bad = {"target": cast["target"], "comparison": [1, 2], "checks": [2]}
    assert client.ask("POST", f"campaigns/{campaign}/cast", bad).status_code == 422


def test_a_sequence_is_laid_over_the_catalogue_and_ones_own_is_handed_on(
    client: Client, campaign: int, night: Path
) -> None:
    client.post(f"campaigns/{campaign}/targets/front", {"place": 0})
    before = client.get(f"campaigns/{campaign}/curve")
    own = {}
    for kind in ("csv", "ecsv", "vot"):
        answer = client.session.get(f"{client.url}/api/campaigns/{campaign}/sequence.{kind}")
        answer.raise_for_status()
        path = night / f"own.{kind}"
        path.write_bytes(answer.content)
        own[kind] = read_catalogue(path)
    assert own["csv"].names == own["ecsv"].names == own["vot"].names
    cast = before["cast"]
    assert len(own["csv"]) >= len(cast["comparison"]) + 1
    # Handed to another observer, who calls the stars by numbers and has them 0.3 mag fainter.
    lines = ["label,ra,dec,Vmag,e_Vmag"]
    stars = own["csv"]
    for at in range(len(stars)):
        magnitude = stars.bands["V"].magnitude[at] + 0.3
        lines.append(f"{at + 1},{stars.ra_deg[at]},{stars.dec_deg[at]},{magnitude:.3f},0.01")
    theirs = night / "theirs.csv"
    theirs.write_text("\n".join([*lines, "77,10.0,10.0,12.0,0.01"]) + "\n")
    body = {"file": str(theirs), "chart": "NB 7"}
    said = client.post(f"campaigns/{campaign}/sequence", body)
    assert said["words"] == f"{len(stars)} of its {len(stars) + 1} stars are in the catalogue."
    client.wait(campaign)
    told = client.get(f"campaigns/{campaign}")
    assert (told["sequence"]["chart"], told["sequence"]["missing"]) == ("NB 7", ["77"])
    assert any("are not in the catalogue" in r["words"] for r in told["remarks"])
    curve = client.get(f"campaigns/{campaign}/curve")
    target, *others = curve["filters"][0]["series"]
    assert all(s["name"].isdigit() for s in others)
    assert target["magnitude"][0] - before["filters"][0]["series"][0]["magnitude"][0] == (
        pytest.approx(0.3, abs=0.02)
    )
    stage = next(s for s in told["stages"] if s["key"] == "measure")
    assert stage["state"] == "done"  # the pixels are summed as they were
    client.post(f"campaigns/{campaign}/sequence", {"file": ""})
    client.wait(campaign)
    assert client.get(f"campaigns/{campaign}")["sequence"] is None
    assert seen(client.get(f"campaigns/{campaign}/curve")) == seen(before)
    elsewhere = night / "elsewhere.csv"
    elsewhere.write_text("label,ra,dec,Vmag\n1,10.0,10.0,12.0\n")
    refused = client.ask("POST", f"campaigns/{campaign}/sequence", {"file": str(elsewhere)})
    assert refused.status_code == 422
    assert "of this field" in refused.json()["detail"]
