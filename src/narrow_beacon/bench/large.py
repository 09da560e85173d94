"""A campaign as a survey has it: a hundred nights of five hundred exposures, from census on."""

from __future__ import annotations

import json
import os
import re
import tempfile
import time
from contextlib import ExitStack
from datetime import datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow.parquet as pq
import requests
from sqlalchemy import insert, literal, select
from sqlalchemy.orm import Session

from narrow_beacon.bench.figures import FIGURES, Figure
from narrow_beacon.bench.page import (
    CHROMIUM,
    FLAGS,
    application,
    changes,
    lengthen,
    reduced_night,
    step_through,
    token_of,
)
from narrow_beacon.store.census_columns import columns_path
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import Campaign, CensusFile, Night, NightFile, PlacementRecord

if TYPE_CHECKING:
    from playwright.sync_api import Page

_NIGHTS, _EACH = 100, 500
_ANSWERS = {
    "a campaign and its stages": "", "rail and film: exposures": "/exposures/columns",
    "sky behind the rail": "/sky", "vetting": "/vetting", "stars": "/stars", "curve": "/curve",
    "files": "/intake/columns",
}  # fmt: skip
_SCREENS = {
    "Intake": "[data-file]", "Correct": "text=Corrected files",
    "Vet": "text=Limits", "Place": "text=Beside their places", "Cast": "text=Line-up",
    "Measure": "[role=slider][aria-label='aperture radius']",
    "Curve": "[data-testid=curve-target] canvas",
}  # fmt: skip
"""By stage, in the order of its keys, what stands on it alone and shows that it is there."""
_LEDGERS = {"exposures": "3", "points": "7"}
"""Tables by name, with the key of the stage that has them."""
_CURRENT = "document.querySelector('[role=row].text-beam')?.textContent"
_AIM_S, _AIM_ROW_S, _AIM_MB = 1.0, 0.1, 500.0
_REST_MS, _LOOK_AGAIN_MS, _GIVEN_UP_S = 6000, 5, 60.0
_TAKEN, _NEW_CASTS = 8, 5


def print_large() -> bool:
    """Build the campaign and measure what its screens wait for; True if every aim was met."""
    print(f"{_NIGHTS} nights of {_EACH} exposures in one campaign, each answer asked for twice")
    with tempfile.TemporaryDirectory() as name, ExitStack() as parts:
        folder = Path(name)
        server, store = parts.enter_context(application(folder))
        campaign = reduced_night(folder, server, store)
        _, stars = lengthen(store, campaign, _EACH)
        count = many_nights(store, campaign, _NIGHTS)
        print(f"  {count} exposures of {stars} stars")
        os.sync()  # what was just written would be waited for
        session = requests.Session()
        session.get(f"{server.url}/?token={token_of(folder)}")
        for words, path in _ANSWERS.items():
            took = [_seconds(session, f"{server.url}/api/campaigns/{campaign}{path}") for _ in "12"]
            FIGURES.add(Figure("large", f"{words}, first", took[0], "s"))
            FIGURES.add(Figure("large", words, took[1], "s", aim=_AIM_S))
        _new_casts(session, f"{server.url}/api/campaigns/{campaign}")
        _in_chromium(parts, f"{server.url}/#/{campaign}", f"{server.url}/?token={token_of(folder)}")
        words = "memory of the server, mapped files apart"
        FIGURES.add(Figure("large", words, _own_mb(server.pid), "MB", aim=_AIM_MB))
    return FIGURES.met("large")


def _new_casts(session: requests.Session, address: str) -> None:
    """The answer to casts that nobody asked for before: each without another comparison star."""
    cast = session.get(address).json()["cast"]
    own = {name: cast[name] for name in ("target", "comparison", "checks")}
    took = []
    for left_out in own["comparison"][:_NEW_CASTS]:
        others = [row for row in own["comparison"] if row != left_out]
        begin = time.perf_counter()
        answer = session.post(f"{address}/cast", json={**own, "comparison": others}, timeout=300)
        answer.raise_for_status()
        took.append(time.perf_counter() - begin)
        time.sleep(_REST_MS / 1000.0)
    session.post(f"{address}/cast", json=own, timeout=300).raise_for_status()
    words = "curve of a cast never asked for"
    FIGURES.add(Figure("large", words, float(np.median(took)), "s", aim=_AIM_S))


def _in_chromium(parts: ExitStack, campaign: str, door: str) -> None:
    """How long the page takes to open each screen, to step and to draw changed curves."""
    from playwright.sync_api import sync_playwright

    playwright = parts.enter_context(sync_playwright())
    browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
    parts.callback(browser.close)
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(door)
    page.goto(f"{campaign}/curve")
    for words in ("the page on Curve, first", "the page on Curve, opened again"):
        begin = time.perf_counter()
        page.reload()
        page.locator(_SCREENS["Curve"]).first.wait_for(timeout=300_000)
        FIGURES.add(Figure("large", words, time.perf_counter() - begin, "s"))
        page.wait_for_timeout(_REST_MS)
    for turn in (", first", ""):
        for number, (name, there) in enumerate(_SCREENS.items(), 1):
            begin = time.perf_counter()
            page.keyboard.press(str(number))
            page.locator(there).first.wait_for(timeout=300_000)
            took = time.perf_counter() - begin
            aim = None if turn else _AIM_S
            FIGURES.add(Figure("large", f"screen {name}{turn}", took, "s", aim=aim))
            page.wait_for_timeout(_REST_MS)
    for name, stage in _LEDGERS.items():
        _time_ledger(page, name, stage)
    page.keyboard.press("3")
    page.wait_for_timeout(_REST_MS)
    steps = step_through(page, 20, 200)
    FIGURES.add(Figure("large", "next exposure", float(np.median(steps)) / 1000, "s", aim=0.1))
    page.keyboard.press("5")
    page.get_by_role("button", name=re.compile(r"^Foxglove \d+$")).nth(4).click()
    page.keyboard.press("7")
    page.locator(_SCREENS["Curve"]).first.wait_for()
    roles = changes(page, lambda _: page.keyboard.press("m"), _TAKEN, _REST_MS)
    words, role = "changed cast to curve", float(np.median(roles)) / 1000
    FIGURES.add(Figure("large", words, role, "s", aim=_AIM_S))
    page.keyboard.press("6")
    handle = page.locator(_SCREENS["Measure"])
    handle.wait_for()
    keys = ("ArrowLeft", "ArrowRight")
    radii = changes(page, lambda n: handle.press(keys[n % 2]), _TAKEN, _REST_MS)
    FIGURES.add(Figure("large", "radius to curve", float(np.median(radii)) / 1000, "s", aim=_AIM_S))


def _time_ledger(page: Page, name: str, stage: str) -> None:
    """How long a stage's table takes to open, and to go to the next row."""
    page.keyboard.press(stage)
    page.wait_for_timeout(_REST_MS)
    begin = time.perf_counter()
    page.keyboard.press("g")
    grid = page.get_by_role("grid", name=name)
    grid.get_by_role("gridcell").first.wait_for(timeout=300_000)
    took = time.perf_counter() - begin
    FIGURES.add(Figure("large", f"table of {name}", took, "s", aim=_AIM_S))
    page.wait_for_timeout(_REST_MS)
    grid.focus()
    rows = []
    for _ in range(_TAKEN):
        before = page.evaluate(_CURRENT)
        begin = time.perf_counter()
        page.keyboard.press("ArrowDown")
        while page.evaluate(_CURRENT) == before and time.perf_counter() - begin < _GIVEN_UP_S:
            page.wait_for_timeout(_LOOK_AGAIN_MS)
        rows.append(time.perf_counter() - begin)
    words = f"next row of {name}"
    FIGURES.add(Figure("large", words, float(np.median(rows)), "s", aim=_AIM_ROW_S))
    page.keyboard.press("g")


def _own_mb(pid: int) -> float:
    """What a process has in memory for itself."""
    status = Path(f"/proc/{pid}/status").read_text()
    (line,) = (line for line in status.splitlines() if line.startswith("RssAnon:"))
    return int(line.split()[1]) / 1000.0


def _seconds(session: requests.Session, address: str) -> float:
    begin = time.perf_counter()
    answer = session.get(address, timeout=300)
    answer.raise_for_status()
    return time.perf_counter() - begin


def many_nights(store: Store, campaign: int, nights: int) -> int:
    """Repeat a campaign's only measured night until there are so many in a row; how many exposures
    it then has.
    """
    with store.session() as session:
        record = session.scalars(select(CensusFile).where(CensusFile.campaign_id == campaign)).one()
        base = Path(record.path)
        table = pq.read_table(base)
        notes = json.loads(table.schema.metadata[b"narrow_beacon"])
        files = [session.get_one(NightFile, number) for number in notes["file_ids"]]
        first = session.get_one(Night, files[0].night_id)
        for number in range(1, nights):
            evening = datetime.fromisoformat(first.evening) + timedelta(days=number)
            night = Night(campaign_id=campaign, evening=evening.date().isoformat())
            session.add(night)
            session.flush()
            group = files[0].group_name.replace(first.evening, night.evening)
            ids = _copied(session, files, number, night, group)
            path = base.with_name(f"{base.stem}-{number}.parquet")
            told = {"narrow_beacon": json.dumps({**notes, "file_ids": ids})}
            pq.write_table(table.replace_schema_metadata(told), path, compression="zstd")
            _columns_of(base, path, ids)
            session.add(
                CensusFile(
                    campaign_id=campaign, group_name=group, filter=record.filter, path=str(path),
                    fingerprint=f"night {number}", exposures=len(ids), fwhm_px=record.fwhm_px,
                    annulus_px=record.annulus_px,
                )
            )  # fmt: skip
            session.commit()
        session.get_one(Campaign, campaign).files_stamp = f"{nights} nights"
    return nights * len(files)


def _copied(
    session: Session, files: list[NightFile], days: int, night: Night, group: str
) -> list[int]:
    """The night's exposures once more, so many days later; their numbers."""
    values = [
        {c.name: getattr(file, c.name) for c in NightFile.__table__.columns if c.name != "id"}
        | {
            "path_sha256": sha256(f"{days} {file.path_sha256}".encode()).hexdigest(),
            "name": f"night-{days}/{file.name}",
            "mid_utc": file.mid_utc and file.mid_utc + timedelta(days=days),
            "night_id": night.id, "group_name": group,
        }
        for file in files
    ]  # fmt: skip
    session.execute(insert(NightFile), values)
    ids = list(
        session.scalars(
            select(NightFile.id).where(NightFile.night_id == night.id).order_by(NightFile.id)
        )
    )
    columns = [c for c in PlacementRecord.__table__.columns if c.name not in ("id", "file_id")]
    for file, own in zip(files, ids, strict=True):
        session.execute(
            insert(PlacementRecord).from_select(
                ["file_id", *(c.name for c in columns)],
                select(literal(own), *columns).where(PlacementRecord.file_id == file.id),
            )
        )
    return ids


def _columns_of(base: Path, path: Path, ids: list[int]) -> None:
    """The columns of ``base`` once more for a Parquet file of other exposures."""
    raw = bytearray(columns_path(base).read_bytes())
    size = int.from_bytes(raw[8:16], "little")
    head = json.loads(raw[16 : 16 + size])
    head["of"] = [path.stat().st_size, path.stat().st_mtime_ns]
    (begin,) = (offset for name, _, _, offset in head["shared"] if name == "file_ids")
    told = json.dumps(head).encode()
    assert 16 + len(told) <= begin  # a longer description has its room, too
    raw[8 : 16 + len(told)] = len(told).to_bytes(8, "little") + told
    for place, number in enumerate(ids):
        raw[begin + 8 * place : begin + 8 * place + 8] = number.to_bytes(8, "little")
    columns_path(path).write_bytes(raw)
