"""Records and data folder: what is kept comes back as it was, every action can be taken back."""

from __future__ import annotations

import copy
import errno
import json
import os
import tempfile
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest
from alembic import command
from distributed import Client as DaskClient
from sqlalchemy import create_engine, select, text
from sqlalchemy.orm import Session

from builders import frame, noise, star_table
from narrow_beacon import __version__
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.measure.noise import CameraConstants
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.stars.quality import Quality
from narrow_beacon.jobs import cluster, trust
from narrow_beacon.jobs.cluster import CancelledError, ClusterPool
from narrow_beacon.jobs.progress import Events, Progress, Reporter
from narrow_beacon.reduce import census_scratch
from narrow_beacon.reduce.census_scratch import CensusScratch
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import dump, load, quality_from_json, quality_to_json
from narrow_beacon.reduce.context import (
    ChainUse,
    Context,
    GroupSettings,
    Nudges,
    Probed,
    load_context,
)
from narrow_beacon.reduce.light import MeasuredHere
from narrow_beacon.reduce.solutions import solution_from_json, solution_to_json
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.rescue import LOST, TOO_LONG, Rescue
from narrow_beacon.serve.mariadb import MariaDb
from narrow_beacon.store import census_runs
from narrow_beacon.store import exposures as store_exposures
from narrow_beacon.store.actions import Change, act, new_cast, redo, undo
from narrow_beacon.store.campaigns import (
    calibration_print,
    changed_words,
    fingerprint,
    new_campaign,
    plan_of,
)
from narrow_beacon.store.census import (
    headings_of,
    read_census_table,
    take_from_table,
    write_census_table,
)
from narrow_beacon.store.census_columns import columns_path, open_tables
from narrow_beacon.store.census_runs import Heading, Measured, SortedCensuses
from narrow_beacon.store.database import migrations
from narrow_beacon.store.exposures import exposure_rows
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.fields import star_table as kept_stars
from narrow_beacon.store.files import add_raw_files, sort_files
from narrow_beacon.store.measured_light import MeasuredInTables
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    CensusFile,
    ChainRecord,
    NightFile,
    Reduction,
)
from narrow_beacon.store.pieces import read_piece, write_piece
from narrow_beacon.store.since import in_force, tell_changes, tell_measured
from pieces import die_at_two, hang_at_two, most_at_once, stretch_of_time
from running import Running


@pytest.fixture
def session(running: Running) -> Iterator[Session]:
    with running.store.session() as opened:
        yield opened
        opened.rollback()


def test_it_is_told_whether_the_program_or_the_frames_made_masters_old() -> None:
    campaign = Campaign(name="old", picks={})
    own = calibration_print(campaign, [])
    assert len(own) <= 64  # the column's width
    assert changed_words(own) == "what the masters are made of"
    before = own.replace(__version__, "0.1.0")
    assert changed_words(before) == f"the program (0.1.0 then, {__version__} now)"
    # Of versions that did not keep their number.
    assert changed_words(own.split()[0]).startswith("the program, or")


def test_migrations_make_the_tables_of_the_models(running: Running) -> None:
    command.check(migrations(running.database.url))


def asked_at_once(running: Running, campaign: int) -> list[Any]:
    """The exposures as four find them who ask at the same moment."""
    gate = threading.Barrier(4)

    def ask(_: int) -> Any:
        with running.store.session() as session:
            gate.wait(10)
            return exposure_rows(session, campaign)

    with ThreadPoolExecutor(4) as pool:
        return list(pool.map(ask, range(4)))


def exposure_census(rows: list[int], seed: int) -> ExposureCensus:
    rng = np.random.default_rng(seed)
    stars, radii = len(rows), 4
    near = np.full((stars, len(StarFlag)), np.inf)
    near[0, 3] = 2.5
    return ExposureCensus(
        np.array(rows), rng.uniform(0, 900, stars), rng.uniform(0, 700, stars),
        rng.uniform(80, 90, stars), rng.uniform(500, 9000, stars), np.linspace(2, 8, radii),
        rng.uniform(1e3, 1e5, (stars, radii)),
        rng.uniform(10, 100, (stars, radii)).astype(np.float32), near,
        *(rng.uniform(0, 9, (stars, radii)).astype(np.float32) for _ in range(2)),
        np.array([1.3, 1.02]),
    )  # fmt: skip


def write(path: Path, members: list[Measured]) -> None:
    with SortedCensuses(path.parent, members) as censuses:
        write_census_table(path, censuses)


def same(one: ExposureCensus | FilterCensus, other: ExposureCensus | FilterCensus) -> None:
    for name, value in vars(one).items():
        np.testing.assert_array_equal(value, getattr(other, name), err_msg=name)


def test_censuses_of_a_night_are_the_same_once_they_are_out_of_memory(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(census_scratch, "_LEAST_BYTES", 4096)
    monkeypatch.setattr(census_scratch, "_MOST_BYTES", 16384)
    scratch = CensusScratch(tmp_path)
    given = [exposure_census(list(range(1, 2 + 7 * at)), at) for at in range(30)]
    kept = [scratch.kept(census) for census in given]
    for _ in range(2):
        for census, own in zip(given, kept, strict=True):
            same(census, own)
        scratch.let_go()
    # The largest is more than a stretch; what is given is copied, and the file has no name.
    given[-1].counts_adu[:] = 0.0
    assert kept[-1].counts_adu.min() > 0.0
    assert list(tmp_path.iterdir()) == []

    # On a full disk the rest stays in memory, and what the file had taken beyond is given back.
    size = os.fstat(scratch._file.fileno()).st_size  # type: ignore[union-attr]

    def full(file: int, begin: int, size: int) -> None:
        os.truncate(file, begin + size // 2)
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(os, "posix_fallocate", full)
    more = [exposure_census(list(range(1, 90)), at) for at in range(9)]
    for census, own in zip(more, [scratch.kept(census) for census in more], strict=True):
        same(census, own)
    assert os.fstat(scratch._file.fileno()).st_size == size  # type: ignore[union-attr]


def test_a_database_that_starts_leaves_other_servers_tables_alone(tmp_path: Path) -> None:
    """A server clears the place of its temporary tables when it starts: not the one of all."""
    other = Path(tempfile.gettempdir()) / f"#sql-temptable-{os.getpid():x}-1-1.MAI"
    other.write_text("in use")
    try:
        with MariaDb(tmp_path / "records"):
            assert other.exists()
    finally:
        other.unlink(missing_ok=True)


def test_light_is_read_from_tables_as_it_was_measured(tmp_path: Path) -> None:
    results = [
        ExposureResult(at, None, None, None, exposure_census(rows, at))
        for at, rows in enumerate(([2, 5, 9], [2, 9], [5, 7]))
    ]
    path = tmp_path / "night.parquet"
    write(path, [Measured(11 + r.index, 60.0, r.census) for r in results if r.census is not None])
    table = open_tables([path])
    here = MeasuredHere(results)
    there = MeasuredInTables(
        [replace(r, census=None) for r in results], {at: (table, at) for at in range(3)}
    )
    for indices, rows in (([0, 2], [2, 5, 7, 9]), ([1], [2, 9])):
        one, other = (m.light(indices, [60.0] * len(indices)) for m in (here, there))
        assert one.rows.tolist() == other.rows.tolist() == rows
        for read in (
            lambda light: light.at(1),
            lambda light: light.alone(3),
            lambda light: light.of_stars([9, 2]),
            lambda light: light.at(0, [2, 4]),
            lambda light: light.at(0, [8]),  # none of these is measured
        ):
            same(read(one), read(other))
    seen = [np.nan_to_num(m.seen([0, 1], 2).x_px).sum(axis=1) for m in (here, there)]
    np.testing.assert_array_equal(*seen)
    for row in (2, 5, 8):
        np.testing.assert_array_equal(here.where(row, [0, 1, 2]), there.where(row, [0, 1, 2]))
    assert [here.noise_ratio(at) for at in range(3)] == [there.noise_ratio(at) for at in range(3)]
    assert there.measured(2)
    assert not there.measured(3)
    one, other = (m.census(1) for m in (here, there))
    assert one is not None
    assert other is not None
    np.testing.assert_array_equal(one.counts_adu, other.counts_adu)


def test_a_census_comes_back_to_the_last_bit(tmp_path: Path) -> None:
    members = [
        Measured(11, 60.0, exposure_census([2, 5, 9], 1)),
        Measured(12, 90.0, exposure_census([2, 9], 2)),
    ]
    path = tmp_path / "night.parquet"
    write(path, members)
    for one, other in zip(read_census_table(path), members, strict=True):
        assert (one.file_id, one.exposure_s) == (other.file_id, other.exposure_s)
        same(one.census, other.census)
    assert not list(tmp_path.glob("*.new"))


def test_a_long_night_is_joined_some_stars_at_a_time(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is sorted in small runs, with exposures that a file has already, is what all at once
    gives.
    """
    stars = np.arange(60)
    members = [
        Measured(11 + at, 60.0, exposure_census(stars[at % 3 :: 1 + at % 4].tolist(), at))
        for at in range(20)
    ]
    whole, there, joined = (tmp_path / f"{name}.parquet" for name in ("whole", "there", "joined"))
    write(whole, members)
    write(there, [replace(one, exposure_s=1.0) for one in members[::2]])
    monkeypatch.setattr(census_runs, "RUN_BYTES", 20_000)
    with SortedCensuses(tmp_path) as censuses:
        for at in range(1, 20, 2):
            write_piece(tmp_path / "piece", members[at].census)
            piece = read_piece(tmp_path / "piece")
            head = Heading(members[at].file_id, 60.0, piece.radii_px, piece.noise)
            censuses.add(at, head, piece.records)
        heads = {2 * at: replace(h, exposure_s=60.0) for at, h in enumerate(headings_of(there))}
        take_from_table(censuses, there, heads)
        write_census_table(joined, censuses)
        assert all(records.nbytes < 20_001 for _, records in censuses.blocks())
    assert pq.ParquetFile(joined).num_row_groups > 4
    for one, other in zip(read_census_table(joined), read_census_table(whole), strict=True):
        assert (one.file_id, one.exposure_s) == (other.file_id, other.exposure_s)
        same(one.census, other.census)
    same(*(open_tables([path]).of_stars(stars) for path in (joined, whole)))
    assert not (there.parent / "scratch").exists()


def test_columns_say_what_the_censuses_of_all_nights_say(tmp_path: Path) -> None:
    nights = [
        [Measured(11, 60.0, exposure_census([2, 5, 9], 1)),
         Measured(12, 90.0, exposure_census([2, 9], 2))],
        [Measured(13, 30.0, exposure_census([4, 5], 3))],
    ]  # fmt: skip
    paths = [tmp_path / f"{number}.parquet" for number in range(2)]
    for path, members in zip(paths, nights, strict=True):
        write(path, members)
    table = open_tables(paths)
    every = [one for night in nights for one in night]
    whole = FilterCensus.of([one.census for one in every], [one.exposure_s for one in every])
    assert table.file_ids == (11, 12, 13)
    assert not list(tmp_path.glob("*.new"))

    def alike(one: FilterCensus, other: FilterCensus) -> None:
        for name, value in vars(other).items():
            np.testing.assert_array_equal(getattr(one, name), value, err_msg=name)

    alike(table.of_stars(table.rows), whole)
    alike(table.at_radius(2), whole.at_radius(2, np.arange(4)))
    few = np.array([2, 5, 77])
    alike(table.of_stars(few, np.array([2, 0])), whole.stars_only(few).take(np.array([2, 0])))
    thin = table.of_stars(few, steps=(1, 3))
    alike(thin.at_radius(3, np.arange(2)), whole.stars_only(few).at_radius(3, np.arange(2)))
    with pytest.raises(ValueError, match="not in tuple"):
        thin.flags(2)  # never a number of another radius
    assert np.isnan(table.scalar("x_px", rows=np.array([4]))[:2]).all()
    assert table.scalar("x_px", rows=np.array([9]))[1, 0] == every[1].census.x_px[1]
    assert table.seconds(2) == 30.0
    for at, one in enumerate(every):
        found, census = table.exposure(at), one.census
        for radius in census.radii_px:
            assert found.flags_at(radius).tolist() == census.flags_at(radius).tolist()
        same(replace(found, near_px=census.near_px), census)
        assert table.radii_px(at).tolist() == census.radii_px.tolist()
        assert table.measured_rows(np.array([at])).tolist() == census.rows.tolist()
        alone = table.exposure(at, few)
        assert alone.rows.tolist() == [row for row in census.rows.tolist() if row in few]
        of = np.isin(census.rows, few)
        np.testing.assert_array_equal(alone.counts_adu, census.counts_adu[of])
        np.testing.assert_array_equal(alone.x_px, census.x_px[of])

    # A census that is measured again is read again.
    write(paths[1], nights[0])
    assert open_tables(paths[1:]).file_ids == (11, 12)
    columns_path(paths[0]).write_bytes(columns_path(paths[0]).read_bytes()[:9000])  # cut short
    assert open_tables(paths[:1]).file_ids == (11, 12)


def test_what_an_earlier_version_kept_can_be_opened(tmp_path: Path) -> None:
    path = tmp_path / "night.parquet"
    write(path, [Measured(11, 60.0, exposure_census([2, 5], 1))])
    table = pq.read_table(path)
    older = table.drop_columns(["doubt_adu", "neighbour_adu"])
    notes = json.loads(table.schema.metadata[b"narrow_beacon"])
    del notes["noise"]
    older = older.replace_schema_metadata({"narrow_beacon": json.dumps(notes)})
    pq.write_table(older, path)
    census = read_census_table(path)[0].census
    assert census.rows.tolist() == [2, 5]
    assert not census.doubt_adu.any()
    report = ChainReport("one", "/folder", (), (), (), 0.1, 3)
    kept = json.loads(dump(report))
    del kept["noise"]
    assert load(ChainReport, json.dumps(kept)) == report


def test_values_of_the_core_come_back_as_they_were(tmp_path: Path) -> None:
    solution = Solution(
        340.1, 38.2, 511.5, 383.5, np.array([[-1e-4, 3e-5], [3.1e-5, 1.1e-4]]) / 3.0, (768, 1024),
        2, np.array([1e-7, 2e-7, -3e-7]), np.array([0.1, 0.2, 0.3]) / 3e6,
    )  # fmt: skip
    again = solution_from_json(solution_to_json(solution))
    for name, value in vars(solution).items():
        np.testing.assert_array_equal(value, getattr(again, name))
    quality = Quality(float("nan"), 1.02, 180, 92.5, 7.7)
    back = quality_from_json(quality_to_json(quality))
    assert np.isnan(back.fwhm_px)
    assert (back.stars, back.sky_adu_per_px) == (180, 92.5)
    made = frame(tmp_path, noise((20, 30), 400.0, 5.0))
    raw = RawFile(made.name, made.sha256, made.source, made.facts, "")
    assert load(RawFile, dump(raw)) == raw


def test_what_tasks_share_comes_back_to_the_last_bit_and_without_code(tmp_path: Path) -> None:
    stars = star_table(5)
    solution = Solution(
        10.0,
        41.0,
        3.5,
        4.5,
        np.array([[1e-4, 1 / 3], [-1 / 7, 1e-4]]),
        (30, 20),
        0,
        np.zeros(0),
        np.zeros(0),
    )
    probed = Probed(float("nan"), solution, Nudges((3, 4), (1 / 3, 0.0), (-1 / 7, 0.1)))
    context = Context(
        stars, "print", {"V": "V"},
        {"chain": ChainUse("/folder", CameraConstants(1.3, 7.1), 52000.0, None)}, (1 / 3, -0.1),
        {"night": GroupSettings(probed, (1 / 3, 2.0), True, (3.5, 5.5))},
    )  # fmt: skip
    path = context.save(tmp_path)
    assert context.save(tmp_path) == path  # named by its content
    again = load_context(path)
    assert again.chains == context.chains
    assert (again.hint_deg, again.bands, again.stars.names) == (
        context.hint_deg, context.bands, stars.names,
    )  # fmt: skip
    group = again.groups["night"]
    assert np.isnan(group.fwhm_px)
    assert group.radii_px == (1 / 3, 2.0)
    assert group.reference is not None
    assert (group.reference.cd == solution.cd).all()
    assert group.probed.nudges == probed.nudges
    for name in stars.bands:
        one, other = again.stars.bands[name], stars.bands[name]
        assert np.array_equal(one.magnitude, other.magnitude, equal_nan=True)
    assert (again.stars.ra_deg == stars.ra_deg).all()


def test_stars_come_back_with_their_gaps(session: Session) -> None:
    v = np.array([11.0, np.nan, 13.0])
    stars = star_table(3, magnitude=v)
    record = save_catalogue(session, stars, "gaps", "somewhere")
    session.flush()
    again = kept_stars(session, record.id)
    assert again.names == stars.names
    np.testing.assert_array_equal(again.bands["V"].magnitude, v)
    np.testing.assert_array_equal(again.ra_deg, stars.ra_deg)
    assert kept_stars(session, record.id) is again


def campaign_with_files(session: Session, folder: Path) -> tuple[Campaign, list[int]]:
    campaign = new_campaign(session, "three", [folder])
    for n in range(3):
        made = frame(folder, noise((20, 30), 400.0 + n, 5.0))
        raw = RawFile(made.name, made.sha256, made.source, made.facts, "")
        add_raw_files(session, campaign, [(made.source.path, raw)])
    session.flush()
    nights = sort_files(session, campaign)
    return campaign, list(nights.ids.values())


def test_only_what_was_written_of_exposures_is_read_again(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[list[int]] = []
    usual = store_exposures._read

    def noted(session: Session, campaign: int, ids: np.ndarray) -> Any:
        read.append(ids.tolist())
        time.sleep(0.1)  # so long that whoever asks at the same time has come
        return usual(session, campaign, ids)

    monkeypatch.setattr(store_exposures, "_read", noted)
    with running.store.session() as session:
        campaign = new_campaign(session, "Sorrel 4", [Path("/nights")])
        number = campaign.id
        session.add_all(
            NightFile(
                campaign_id=number, path=f"/nights/{n}.fits", path_sha256=f"{number}-{n}",
                name=f"{n}.fits", size=1, modified_ns="1", raw="", correction={}, part="exposure",
                filter="V", exposure_s=60.0, mid_utc=datetime(2026, 9, 20, 21, 9 - n, 1, 500),
                quality={"fwhm_px": 2.5 + 0.1 * n, "stars": 40, "trails": []},
            )
            for n in range(3)
        )  # fmt: skip
    with running.store.session() as session:
        first, *others = asked_at_once(running, number)
        assert all(rows is first for rows in others)
        assert [row.name for row in first] == ["2.fits", "1.fits", "0.fits"]  # in order of time
        assert first[0].mid_utc == datetime(2026, 9, 20, 21, 7, 1, 500)
        assert first[1].quality == {"fwhm_px": 2.6, "stars": 40, "trails": []}
        assert exposure_rows(session, number) is first
        assert read == [sorted(row.id for row in first)]
        middle = session.get_one(NightFile, first[1].id)
        middle.aside_by, middle.aside_reason = "observer", "haze"
        assert exposure_rows(session, number)[1].aside_reason == "haze"
        assert read[1:] == [[first[1].id]]
        session.rollback()
    with running.store.session() as session:  # what was not kept after all
        assert exposure_rows(session, number)[1].aside_reason == ""
        session.delete(session.get_one(NightFile, first[0].id))
        assert [row.name for row in exposure_rows(session, number)] == ["1.fits", "0.fits"]
        for row in exposure_rows(session, number):
            session.delete(session.get_one(NightFile, row.id))
        assert not exposure_rows(session, number)
        session.delete(session.get_one(Campaign, number))


def test_undo_and_redo_walk_the_log(session: Session, tmp_path: Path) -> None:
    campaign, (first, second, _) = campaign_with_files(session, tmp_path)
    assert redo(session, campaign) is None
    assert undo(session, campaign) is None
    act(session, campaign, "one", [Change("file", first, "aside_by", "observer")])
    act(session, campaign, "two", [Change("file", second, "aside_by", "observer")])
    assert (
        act(session, campaign, "nothing", [Change("file", first, "aside_by", "observer")]) is None
    )
    session.flush()
    undone = undo(session, campaign)
    assert undone is not None
    assert undone.words == "two"
    session.flush()
    again = redo(session, campaign)
    assert again is not None
    assert again.words == "two"
    session.flush()
    undo(session, campaign)
    session.flush()
    undo(session, campaign)
    session.flush()
    act(session, campaign, "three", [Change("file", second, "aside_by", "program")])
    session.flush()
    # Something else was done since: what was undone can't be done again.
    assert redo(session, campaign) is None
    undo(session, campaign)
    session.flush()
    # What was abandoned before stays so; the latest one comes back.
    latest = redo(session, campaign)
    assert latest is not None
    assert latest.words == "three"


def test_what_changed_since_measuring_is_what_is_in_force_now_and_was_not_then(
    session: Session, tmp_path: Path
) -> None:
    """A change that was taken back is none; one that came while it was measured is one."""
    campaign, _ = campaign_with_files(session, tmp_path)
    number = campaign.id

    def changed(field: str, value: Any) -> str:
        act(session, campaign, field, [Change("campaign", number, field, value)])
        return campaign.changed_since

    assert changed("epoch_yr", 2000.0) == ""  # nothing is measured yet
    began = in_force(session, campaign)
    session.add(ChainRecord(campaign_id=number, name="V", report="", fingerprint="one"))
    session.add(
        CensusFile(campaign_id=number, group_name="V", filter="V", path="", fingerprint="",
                   exposures=1, fwhm_px=3.0),
    )  # fmt: skip
    assert changed("default_filter", "V") == "catalogue, files"
    tell_measured(session, campaign, began)
    assert campaign.changed_since == "files"
    undo(session, campaign)
    assert campaign.changed_since == ""
    assert changed("measuring", {"radius_px": 4.0}) == "radius or sky ring"
    assert changed("name", "another") == "radius or sky ring"
    undo(session, campaign)
    undo(session, campaign)
    assert campaign.changed_since == ""
    redo(session, campaign)
    tell_measured(session, campaign, in_force(session, campaign))
    assert campaign.changed_since == ""
    undo(session, campaign)
    assert campaign.changed_since == "radius or sky ring"
    redo(session, campaign)
    chain = session.scalars(select(ChainRecord).where(ChainRecord.campaign_id == number)).one()
    for made, words in (("two", "masters"), ("one", "")):
        chain.fingerprint = made
        tell_changes(session, campaign)
        assert campaign.changed_since == words


def test_a_correction_is_sorted_at_once_and_taken_back(session: Session, tmp_path: Path) -> None:
    campaign, (first, *_) = campaign_with_files(session, tmp_path)
    act(session, campaign, "a dark", [Change("file", first, "correction", {"kind": "dark"})])
    session.flush()
    assert len(sort_files(session, campaign).night.exposures) == 2
    undo(session, campaign)
    session.flush()
    assert len(sort_files(session, campaign).night.exposures) == 3


def test_colours_are_taken_apart_in_campaigns_from_before_they_were(
    session: Session, tmp_path: Path
) -> None:
    campaign, whole = campaign_with_files(session, tmp_path)
    campaign.pattern = "RGGB"  # as if the headers had said so all along, and no one had sorted
    nights = sort_files(session, campaign)
    assert len(nights.night.exposures) == 9
    assert len({nights.ids[frame.name] for frame in nights.night.exposures} - set(whole)) == 9
    assert sort_files(session, campaign).ids == nights.ids


def test_casts_are_followed_never_edited(session: Session, tmp_path: Path) -> None:
    campaign, _ = campaign_with_files(session, tmp_path)
    first = new_cast(session, campaign, 1, [2, 3], [4], {"2": "like the target"})
    campaign.cast_id = first.id
    second = new_cast(session, campaign, 1, [3], [4])
    assert (first.version, second.version) == (1, 2)
    assert first.comparison == [2, 3]
    assert second.reasons == {"2": "like the target"}


def test_fingerprints_follow_their_inputs() -> None:
    assert fingerprint("a", 1.5, (2, 3)) == fingerprint("a", 1.5, (2, 3))
    assert fingerprint("a", 1.5, (2, 3)) != fingerprint("a", 1.5, (2, 4))


def test_progress_tells_rate_and_time_left() -> None:
    events = Events()
    reporter = Reporter(events, Progress(1, 2, "census"))
    told: list[dict[str, Any]] = []
    with events.telling(lambda event: told.append(copy.deepcopy(event["progress"]))):
        before = time.monotonic()
        reporter.start("measuring", 10, done=4)
        begin = time.monotonic()
        while time.monotonic() - begin < 0.2:
            pass
        reporter.advance(3)
        took = time.monotonic() - before
    assert told[0]["done"] == 4
    last = told[-1]
    # Three pieces in 0.2 s or what a busy machine makes of it; what was there already counts not.
    assert 0.99 * 3 / took < last["rate"] < 1.01 * 3 / 0.2
    assert last["left_s"] == pytest.approx(3 / last["rate"])


def test_a_pool_keeps_order_and_stops_when_asked(running: Running) -> None:
    with running.workers() as client:
        seen: list[int] = []
        pool = ClusterPool(client)
        assert pool.map(abs, [(-n,) for n in range(6)], seen.append) == list(range(6))
        assert sorted(seen) == list(range(6))
        assert pool.start(abs, -3)() == 3
        one_by_one: list[int] = []
        pool.each(abs, [(-n,) for n in range(6)], one_by_one.append)
        assert sorted(one_by_one) == list(range(6))
        calls = Asked([(-n,) for n in range(200)])
        waiting: list[int] = []
        pool.run(abs, calls, lambda *_: waiting.append(calls.asked - len(waiting)), None)
        assert len(waiting) == 200
        assert max(waiting) <= 8 * sum(client.nthreads().values())  # the rest is not sent yet
        stop = threading.Event()
        cancelled = ClusterPool(client, stop.is_set)
        with pytest.raises(CancelledError):
            cancelled.map(time.sleep, [(0.05,) for _ in range(200)], lambda _: stop.set())
        with pytest.raises(TypeError):
            pool.map(abs, [("text",)])
        pool.room_for(10**15)  # as much as no machine has: one after the other
        assert most_at_once(pool.map(stretch_of_time, [(0.1,)] * 4)) == 1
        pool.room_for(1)
        together = most_at_once(pool.map(stretch_of_time, [(0.3,)] * 4))
        assert together == len(client.scheduler_info()["workers"])


class Asked(list[tuple[int, ...]]):
    """Calls that count how many of them were asked for."""

    asked = 0

    def __getitem__(self, place: Any) -> Any:
        self.asked += 1
        return super().__getitem__(place)


def test_on_the_cluster_one_bad_piece_costs_only_itself_and_a_stop_ends_what_runs(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cluster, "_ASK_WORKERS_S", 0.5)
    monkeypatch.setattr(cluster, "_GRACE_S", 0.5)
    rescue = Rescue(
        lambda call: [([n],) for n in call[0]], lambda call, words: [words],
        lambda parts: [n for part in parts for n in part], limit_s=6.0,
    )  # fmt: skip
    with running.workers() as client:
        pool = ClusterPool(client)
        dead = pool.map(die_at_two, [([1, 2],), ([3],)], rescue=rescue)
        assert dead == [[1, LOST], [9]]
        late = pool.map(hang_at_two, [([2],), ([3],)], rescue=replace(rescue, limit_s=2.0))
        assert late == [[TOO_LONG.format(2.0)], [9]]
        before = set(client.scheduler_info()["workers"])
        begin = time.monotonic()
        stopped = ClusterPool(client, lambda: time.monotonic() - begin > 1.0)
        with pytest.raises(CancelledError):
            stopped.map(hang_at_two, [([2],)])
        client.wait_for_workers(len(before), timeout=60)
        assert pool.map(abs, [(-1,), (-2,)]) == [1, 2]
        assert before - set(client.scheduler_info()["workers"]), "the worker was not ended"


def test_where_no_nanny_can_be_a_lost_worker_is_begun_anew_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cluster, "semaphores_work", lambda: False)
    for name, value in trust.settings(tmp_path).items():  # taken out of the environment at the end
        monkeypatch.setenv(name, value)
    made = cluster.local_cluster(1, trust.make_trust(tmp_path))
    try:
        with DaskClient(made.scheduler_address, security=trust.security(tmp_path)) as client:
            client.wait_for_workers(1, timeout=60)
            assert cluster.lost_workers(made) == []
            made.workers[0].process.kill()
            end = time.monotonic() + 30
            while not cluster.lost_workers(made):
                assert time.monotonic() < end, "nobody notices"
                time.sleep(0.05)
            cluster.begin_anew(made)
            assert cluster.lost_workers(made) == []
            assert client.submit(abs, -2).result(timeout=60) == 2
    finally:
        made.close()


def test_records_of_the_first_version_are_brought_up_to_date(tmp_path: Path) -> None:
    url = f"sqlite:///{tmp_path / 'old.db'}"
    command.upgrade(migrations(url), "0001")
    engine = create_engine(url)
    empty = {"when": "2026-10-14 08:00:00", "none": "{}", "list": "[]"}
    with engine.begin() as old:
        for statement in (
            "INSERT INTO catalogue (id, name, origin, sha256, epoch_yr, bands) "
            "VALUES (1, 'field', 'field.vot', '', 2016, :list)",
            "INSERT INTO star (id, catalogue_id, row_number, name, ra_deg, dec_deg, pm_ra_mas_yr, "
            "pm_dec_mas_yr, known_variable, magnitudes) "
            "VALUES (1, 1, 4, 'Larkspur 114', 340, 38, 0, 0, 1, :none)",
            "INSERT INTO campaign (id, name, created, folders, target_name, target_sure, "
            "catalogue_id, wanted_comparison, layout, revision, changed_since, files_stamp, "
            "picks, masters_with, remarks, constants) VALUES (1, 'old', :when, :list, 'Larkspur "
            "114', 1, 1, :list, 'plain', 3, '', '', :none, '', :list, :none)",
            "INSERT INTO cast_of_stars (id, campaign_id, version, created, target, comparison, "
            "reasons, dropped) VALUES (1, 1, 1, :when, 4, :list, :none, :none)",
            "INSERT INTO recipe (id, campaign_id, version, created, steps, automatic, "
            "annulus_inner_fwhm, annulus_outer_fwhm) VALUES (1, 1, 1, :when, :none, 1, 3.5, 5.5)",
            "INSERT INTO reduction (id, campaign_id, cast_id, recipe_id, created, version) "
            "VALUES (1, 1, 1, 1, :when, '0.1.0')",
        ):
            asked = {name: value for name, value in empty.items() if f":{name}" in statement}
            old.execute(text(statement), asked)
    command.upgrade(migrations(url), "head")
    with Session(engine) as session:
        campaign = session.get_one(Campaign, 1)
        assert (campaign.name, campaign.archived, campaign.bands) == ("old", False, None)
        # Whose points they were is known from the cast that made them.
        assert session.get_one(Reduction, 1).star == "Larkspur 114"
        assert session.get_one(CastRecord, 1).automatic is False
        plan = plan_of(session, campaign)
        assert (plan.radius.pixels, plan.annulus, plan.bands) == (None, (3.5, 5.5), {})
