"""Tables that go to the page, written a column at a time, say what their rows say."""

from __future__ import annotations

import json
from datetime import datetime

import numpy as np

from narrow_beacon.server.columns import columns_json, object_json, rows_json

COUNT = 2500
HEIGHT = np.where(np.arange(COUNT) % 7 == 3, np.nan, np.arange(COUNT) / 8.0)
PLACE = np.stack([HEIGHT, HEIGHT + 1.0], axis=1)
WORDS = [("clear", "cloud", "")[n % 3] for n in range(COUNT)]
NAMES = [f"foxglove-{n:04d}" for n in range(COUNT)]
COLUMNS = {
    "height": HEIGHT, "place": PLACE, "word": WORDS, "name": NAMES, "kit": ["one"] * COUNT,
    "trails": [[[1.0, n]] if n == 5 else [] for n in range(COUNT)],
}  # fmt: skip


def test_columns_say_what_repeats_once_and_none_where_there_is_no_number() -> None:
    told = json.loads(columns_json(COLUMNS))
    assert told["height"] == [None if n % 7 == 3 else n / 8.0 for n in range(COUNT)]
    assert told["place"][3] is None
    assert told["place"][4] == [0.5, 1.5]
    assert [told["word"]["words"][at] for at in told["word"]["at"]] == WORDS
    assert told["name"] == NAMES
    assert told["kit"] == {"all": "one"}
    assert told["trails"][5] == [[1.0, 5]]


def test_rows_and_columns_are_the_same_table() -> None:
    columns = {**COLUMNS, "begin": [datetime(2026, 9, 1, 22, 0, n % 60) for n in range(COUNT)]}
    rows = json.loads(object_json({"rows": rows_json(columns)}, count=COUNT))
    assert rows["count"] == len(rows["rows"]) == COUNT
    assert rows["rows"][-1] == {
        "height": (COUNT - 1) / 8.0, "place": [(COUNT - 1) / 8.0, (COUNT - 1) / 8.0 + 1.0],
        "word": WORDS[-1], "name": NAMES[-1], "kit": "one", "trails": [],
        "begin": "2026-09-01T22:00:39",
    }  # fmt: skip
    assert rows["rows"][3]["place"] is None


def test_an_array_of_one_value_is_told_once_and_all_of_another() -> None:
    unknown, ends_alike = (
        np.full(COUNT, np.nan),
        np.arange(COUNT) * (COUNT - 1.0 - np.arange(COUNT)),
    )
    told = json.loads(columns_json({"airmass": unknown, "drift": ends_alike}))
    assert told["airmass"] == {"all": None}
    assert told["drift"] == ends_alike.tolist()


def test_a_table_without_rows_is_empty() -> None:
    assert rows_json({"height": np.empty(0)}) == b"[]"
    assert columns_json({"height": np.empty(0)}) == b'{"height":[]}'
