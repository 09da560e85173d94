"""The light curve as SVG: what is drawn is what was measured."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from narrow_beacon.bench.figures import Figure, Figures
from narrow_beacon.reduce import svg

PAGE = svg.Page(400.0, 300.0, "", "#111", "#888", "JD − 2461326")


def marks(**changes: object) -> svg.Marks:
    """Five points of one filter."""
    fields: dict[str, object] = {
        "name": "V", "colour": "#070", "x": np.array([0.30, 0.32, 0.34, 1.30, 1.32]),
        "y": np.array([12.0, 12.5, 12.2, 12.1, np.nan]), "error": np.full(5, 0.02),
        "hollow": np.array([False, True, False, False, False]),
        "limit": np.array([np.nan] * 4 + [12.4]),
    }  # fmt: skip
    return svg.Marks(**{**fields, **changes})  # type: ignore[arg-type]


def drawn(text: str) -> list[ElementTree.Element]:
    return list(ElementTree.fromstring(text.split("?>", 1)[1]).iter())


def places(text: str, fill: str) -> list[tuple[float, float]]:
    """The centres of the round marks of a fill."""
    found = []
    for one in drawn(text):
        if one.get("fill") == fill and one.get("d", "").count("a") > 1:
            for x, y in re.findall(r"M([\d.]+) ([\d.]+)a", one.get("d", "")):
                found.append((float(x) + 2.0, float(y)))
    return found


def test_points_stand_where_their_values_are_bright_above() -> None:
    text = svg.figure([svg.Panel("mag", [marks()], 1.0)], [(0.30, 0.34), (1.30, 1.32)], PAGE)
    full, hollow = places(text, "#070"), places(text, "white")
    assert len(full) == 3
    assert len(hollow) == 1
    (x0, y0), (x2, y2), (x3, y3) = full
    ((_, y1),) = hollow
    # 12.0 is brightest and highest; distances are in proportion.
    assert y0 < y3 < y2 < y1
    assert (y2 - y0) / (y1 - y0) == pytest.approx(0.2 / 0.5, abs=0.01)
    assert x0 < x2 < x3
    arrows = [one for one in drawn(text) if "v7" in one.get("d", "")]
    assert len(arrows) == 1
    bars = [one.get("d", "") for one in drawn(text) if re.match(r"M[\d. ]+V", one.get("d", ""))]
    assert sum(path.count("V") for path in bars) == 4


def test_names_of_any_letters_are_text_and_nothing_else() -> None:
    odd = marks(name='<V\' & "B">')
    page = svg.Page(400.0, 300.0, "O'Hara's <b>star</b>", "#111", "#888", "x")
    text = svg.figure([svg.Panel("a 'label'", [odd], 1.0)], [(0.3, 1.4)], page)
    words = [one.text for one in drawn(text) if one.tag.endswith("text")]
    assert '<V\' & "B">' in words
    assert "O'Hara's <b>star</b>" in words
    assert "a 'label'" in words


@settings(max_examples=80, deadline=None)
@given(
    low=st.floats(-30, 30), span=st.floats(1e-3, 1e4), count=st.integers(1, 20),
)  # fmt: skip
def test_ticks_are_round_inside_and_not_too_many(low: float, span: float, count: int) -> None:
    ticks = svg._ticks(low, low + span, count)
    assert ticks.size <= count + 1
    assert (ticks >= low - 1e-6 * span).all()
    assert (ticks <= low + span * (1 + 1e-6)).all()
    if ticks.size > 1:
        step = ticks[1] - ticks[0]
        mantissa = step / 10 ** np.floor(np.log10(step) + 1e-9)
        assert min(abs(mantissa - one) for one in (1.0, 2.0, 2.5, 5.0)) < 1e-6
        assert len({svg._number(at, svg._digits(ticks)) for at in ticks}) == ticks.size


def test_a_panel_without_a_point_is_drawn_empty() -> None:
    nothing = marks(y=np.full(5, np.nan), limit=np.full(5, np.nan))
    text = svg.figure([svg.Panel("mag", [nothing], 1.0)], [(0.3, 1.4)], PAGE)
    assert not places(text, "#070")


def test_figures_of_a_bench_know_their_aims(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    kept = Figures()
    kept.add(Figure("speed", "sum", 30.0, "ms", 8.0, 33.0))
    kept.add(Figure("night", "two over one", 1.7, "times", aim=1.85, least=True))
    kept.add(Figure("night", "memory", 300.0, "MB"))
    assert kept.met("speed")
    assert not kept.met("night")
    assert [one["met"] for one in kept.as_json()] == [True, False, None]
    said = capsys.readouterr().out
    assert "3.75 × floor" in said
    assert said.count("MISSED") == 1
