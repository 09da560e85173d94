"""Night after night in the application, each with calibration frames of its own: what the next one
costs in a campaign that grows.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import requests

from narrow_beacon.bench.figures import FIGURES, Figure
from narrow_beacon.bench.page import application, token_of
from narrow_beacon.simulate.plain import write_plain_night

_NIGHTS, _TOLD = 40, 5
_SMALL: dict[str, Any] = {
    "exposures": 5, "shape": (300, 400), "calibration": 3, "density": 9000.0, "cadence_s": 400.0,
}  # fmt: skip


def print_evenings() -> bool:
    """Print what adding a night takes after few and after many, and a job without anything new."""
    print(f"Nights of {_SMALL['exposures']} small exposures, added one after the other")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for n in range(_NIGHTS):
            write_plain_night(folder / f"night-{n:02d}", 41, evening=n, **_SMALL)
        raws = [str(path) for path in sorted(folder.glob("night-*/raw"))]
        with application(folder) as (server, _):
            page = requests.Session()
            page.get(f"{server.url}/?token={token_of(folder)}")
            asked = {"name": "evenings", "folders": raws[:1], "reduce": True}
            made = page.post(f"{server.url}/api/campaigns", json=asked).json()
            address = f"{server.url}/api/campaigns/{made['id']}"
            _wait(page, address)
            added, idle = [], []
            for count in range(2, _NIGHTS + 1):
                begin = time.perf_counter()
                page.patch(address, json={"folders": raws[:count]}).raise_for_status()
                _reduce(page, address)
                middle = time.perf_counter()
                _reduce(page, address)
                added.append(middle - begin)
                idle.append(time.perf_counter() - middle)
    few, many = (
        [float(np.median(times[part])) for times in (added, idle)]
        for part in (slice(_TOLD), slice(-_TOLD, None))
    )
    for words, at in (("the next night", 0), ("a job with nothing new", 1)):
        FIGURES.add(Figure("evenings", f"{words}, after {_TOLD // 2 + 1}", few[at], "s"))
        FIGURES.add(Figure("evenings", f"{words}, after {_NIGHTS - 3}", many[at], "s"))
    return FIGURES.met("evenings")


def _reduce(page: requests.Session, address: str) -> None:
    page.post(f"{address}/jobs", json={"kind": "reduce"}).raise_for_status()
    _wait(page, address)


def _wait(page: requests.Session, address: str) -> None:
    while True:
        jobs = page.get(f"{address}/jobs").json()["jobs"]
        if all(job["state"] not in ("waiting", "running") for job in jobs):
            assert jobs[0]["state"] == "done", jobs[0]["words"]
            return
        time.sleep(0.02)
