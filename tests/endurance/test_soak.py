"""A few minutes' worth of ./beacon bench soak, in less than one: killed, starved, and all there."""

from __future__ import annotations

from pathlib import Path

from narrow_beacon.bench.soak import soak


def test_killed_at_random_moments_nothing_is_lost_and_no_number_is_another(tmp_path: Path) -> None:
    soaked = soak(tmp_path, kills=4, say=lambda _: None, paused_s=3.0)
    assert soaked.trouble == []
    assert set(soaked.kills) == {"MariaDB", "the server", "a worker", "start"}
