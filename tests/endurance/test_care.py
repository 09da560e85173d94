"""Doctor, backup and restore, on what the application really left behind."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tarfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from narrow_beacon.serve.care import backup, doctor, restore
from narrow_beacon.serve.places import Places
from narrow_beacon.store.backup import BackupError
from narrow_beacon.store.models import CensusFile, MasterRecord
from running import PAGE, Client, Running


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Running, int, str, Path]]:
    """A running application with a reduced night, its curve, and a backup made meanwhile."""
    running = Running(tmp_path_factory.mktemp("kept"))
    from running import small_night

    small_night(running.nights / "foxglove")
    client = running.client()
    number = client.reduced(running.nights / "foxglove")
    path = running.folder / "kept.tar.gz"
    client.begin(running, "busy")  # a job is at work while the backup is made
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("BEACON_DATABASE_URL", running.database.url)
        backup(places_of(running), path, lambda _: None)
    yield running, number, curve_of(client, number), path
    running.close()


def places_of(running: Running) -> Places:
    return Places(running.var, running.data, PAGE, False)


def curve_of(client: Client, number: int) -> str:
    return json.dumps(client.get(f"campaigns/{number}/curve")["filters"])


def findings(places: Places, *, mend: bool = False) -> list[str]:
    return [f"{f.mended} {f.words}" for f in doctor(places, mend=mend, hashes=True)]


def test_a_backup_brings_all_of_it_back_to_the_last_bit_wherever_that_is(
    kept: tuple[Running, int, str, Path], tmp_path: Path
) -> None:
    _, number, curve, path = kept
    var = tmp_path / "a folder's name"
    said: list[str] = []
    restore(Places(var, var / "data", PAGE, False), path, said.append)
    assert "whole" in said[0]
    again = Running(tmp_path / "again", var=var)
    try:
        client = again.client()
        assert curve_of(client, number) == curve
        masters = client.get(f"campaigns/{number}/correct")["masters"]
        info = client.get(f"images/masters/{masters[0]['id']}")
        assert info["width"] > 0
        # Nothing has to be done anew.
        client.post(f"campaigns/{number}/jobs", {"kind": "census"})
        assert client.wait(number)["state"] == "done"
        assert curve_of(client, number) == curve
        # The night lies elsewhere than this one may read: that is said when it looks there.
        client.post(f"campaigns/{number}/jobs", {"kind": "sort"})
        client.wait(number)
        remarks = [r["remedy"] for r in client.get(f"campaigns/{number}")["remarks"]]
        assert any("--allow" in words for words in remarks)
    finally:
        again.close()


def test_a_damaged_backup_is_refused_and_nothing_is_touched(
    kept: tuple[Running, int, str, Path], tmp_path: Path
) -> None:
    path = kept[3]
    var = tmp_path / "var"
    (var / "data").mkdir(parents=True)
    (var / "data" / "mine").write_text("stays")
    places = Places(var, var / "data", PAGE, False)
    whole = path.read_bytes()
    for name, content in (
        ("cut.tar.gz", whole[: len(whole) // 2]), ("text.tar", b"no backup"), ("empty.tar", b""),
    ):  # fmt: skip
        (tmp_path / name).write_bytes(content)
        with pytest.raises(BackupError, match=r"no backup|damaged"):
            restore(places, tmp_path / name, lambda _: None)
    (tmp_path / "x").write_text("led out")
    with tarfile.open(tmp_path / "out.tar", "w") as archive:
        archive.add(tmp_path / "x", "../led-out")
    with pytest.raises(BackupError, match="which no backup does"):
        restore(places, tmp_path / "out.tar", lambda _: None)
    assert sorted(p.name for p in var.iterdir()) == ["data", "running"]
    assert (var / "data" / "mine").read_text() == "stays"


def test_the_doctor_finds_what_was_broken_and_mends_what_can_be_made_again(
    kept: tuple[Running, int, str, Path], tmp_path: Path
) -> None:
    first, number, curve, path = kept
    var = tmp_path / "var"
    places = Places(var, var / "data", PAGE, False)
    restore(places, path, lambda _: None)
    before = findings(places)
    assert all("did not end" in words for words in before), before  # the job that was at work
    running = Running(tmp_path / "again", var=var)
    with running.store.session() as session:
        census = Path(session.query(CensusFile).filter_by(campaign_id=number).first().path)
        master = Path(session.query(MasterRecord).filter_by(campaign_id=number).first().path)
    running.close()
    master.write_bytes(master.read_bytes()[:4000])
    census.unlink()
    (census.parent / "other.parquet").write_bytes(b"")
    (var / "data" / f"campaign-{number}" / "probes" / "x.1.new").write_bytes(b"half")
    (var / "data" / "campaign-77" / "masters").mkdir(parents=True)
    (var / "data" / "campaign-77" / "uploads").mkdir(parents=True)
    var.chmod(0o755)
    found = "\n".join(findings(places))
    for words in ("may look into", "is broken: cut short", "is gone", "of no record",
                  "half written", "of a campaign that is no more"):  # fmt: skip
        assert words in found, found
    assert all(line.startswith("True") for line in findings(places, mend=True)
               if "did not end" not in line)  # fmt: skip
    left = [words for words in findings(places) if "did not end" not in words]
    assert left == []
    assert (var / "data" / "campaign-77" / "uploads").is_dir()
    again = Running(tmp_path / "last", var, first.nights)
    try:
        client = again.client()
        client.post(f"campaigns/{number}/jobs", {"kind": "reduce"})
        job = client.wait(number)
        assert job["state"] == "done", job["words"] + job["log"]
        assert curve_of(client, number) == curve
    finally:
        again.close()


def test_on_the_command_line_it_says_when_there_is_nothing_yet(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "narrow_beacon.cli"]
    environment = {**os.environ, "BEACON_VAR": str(tmp_path / "var")}
    for more in (["doctor"], ["backup", str(tmp_path / "b.tar")]):
        done = subprocess.run([*command, *more], env=environment, capture_output=True, text=True,
                              timeout=60)  # fmt: skip
        assert done.returncode == 2
        assert "There are no records" in done.stderr
    assert not (tmp_path / "b.tar").exists()
    shutil.rmtree(tmp_path / "var", ignore_errors=True)
