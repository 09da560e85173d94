"""Several targets in one field, each with its own cast, and several check stars."""

from __future__ import annotations

import json
import re
from collections import defaultdict
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from narrow_beacon.bench.compare import numbers, read_csv
from narrow_beacon.cli import main
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.plan import PlanError, read_plan
from narrow_beacon.simulate.plain import write_plain_night


@pytest.fixture(scope="module")
def night(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("night")
    write_plain_night(folder, 9, exposures=14, shape=(320, 448), density=14000.0)
    return folder


def run(night: Path, more: str = "") -> tuple[dict[str, list[dict[str, str]]], dict[str, object]]:
    """The curve's rows by target and the provenance, with ``more`` said of targets and cast."""
    text = (night / "plan.toml").read_text()
    plan = night / "several.toml"
    plan.write_text(text.replace("[target]", "[[target]]") + more)
    done = CliRunner().invoke(main, ["reduce", str(plan)])
    assert done.exit_code == 0, done.output
    rows: dict[str, list[dict[str, str]]] = defaultdict(list)
    for row in read_csv(night / "out" / "light_curve.csv"):
        rows[row["target"]].append(row)
    return rows, json.loads((night / "out" / "provenance.json").read_text())


def test_each_target_has_its_own_cast_and_leaves_the_others_alone(night: Path) -> None:
    alone, before = run(night)
    (first,) = alone
    assert before["other_targets"] == []
    stars = read_catalogue(night / "field.vot")
    mags = stars.bands["V"].magnitude
    # Two that the program had taken for comparison stars of the first.
    comparison = [star["name"] for star in before["comparison"]]
    a, b = comparison[0], comparison[1]
    rows, told = run(
        night,
        f'[[target]]\nname = "{a}"\n[[target]]\nname = "{b}"\n'
        f'comparison = {json.dumps(comparison[2:5])}\ncheck = {json.dumps(comparison[5:7])}\n',
    )  # fmt: skip
    assert list(rows) == [first, a, b]
    assert len(rows[a]) == len(rows[b]) == len(rows[first]) == len(alone[first])
    for name in (a, b):
        seen = numbers(rows[name], "magnitude")
        # Stars that are steady; the catalogue's own errors are below 10 mmag.
        assert np.median(seen) == pytest.approx(mags[stars.row(name)], abs=0.02)
        assert np.std(seen) < 3.0 * np.median(numbers(rows[name], "uncertainty"))
    # Nobody's target is anybody's comparison or check star unless it is named.
    others = {one["target"]: one for one in told["other_targets"]}
    for one in (told, others[a]):
        names = {star["name"] for star in one["comparison"]} | {one["check"]}
        assert not names & {first, a, b}
    assert {star["name"] for star in others[b]["comparison"]} == set(comparison[2:5])
    facts = next(iter(others[b]["filters"].values()))
    assert [facts["check"], *facts["more_checks"]] == comparison[5:7]
    assert rows[b][0]["check_magnitude"] != rows[a][0]["check_magnitude"]
    assert (night / "out" / f"light_curve-{a.replace(' ', '-')}.svg").exists()
    # The first target's counts stay as they were; only its comparison stars are others.
    for old, new in zip(alone[first], rows[first], strict=True):
        assert new["instrumental"] == old["instrumental"]
    again, _ = run(night)
    assert again == alone
    assert not list((night / "out").glob("light_curve-*.svg"))


def test_mistakes_of_each_target_are_told_by_its_own_lines(night: Path) -> None:
    text = (night / "plan.toml").read_text().replace("[target]", "[[target]]")
    more = (
        '[[target]]\nname = "Sorrel 1"\ncolor = 0.5\n'
        '[[target]]\nra = 10.0\n[[target]]\nname = "Nowhere 7"\n'
    )
    path = night / "wrong.toml"
    path.write_text(text + more)
    with pytest.raises(PlanError) as caught:
        read_plan(path)
    lines = (text + more).splitlines()
    said = {int(re.findall(r":(\d+):", line)[0]): line for line in caught.value.mistakes}
    assert "did you mean colour" in said[lines.index("color = 0.5") + 1]
    assert "both ra and dec" in said[lines.index("ra = 10.0") + 1]
    assert "Nowhere 7" in said[lines.index('name = "Nowhere 7"') + 1]
