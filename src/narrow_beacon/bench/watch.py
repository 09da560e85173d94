"""A night that comes in file by file under watch: from a file closed to its point on the curve."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from pathlib import Path

import numpy as np

from narrow_beacon.bench.soak import Observatory
from narrow_beacon.simulate.plain import write_plain_night

EXPOSURES_VARIABLE = "BEACON_WATCH_EXPOSURES"
_EXPOSURES = 120
_SHAPE = (2048, 2048)
_DENSITY = 2400.0
"""Stars a square degree: some 1,000 on an exposure."""
_AIM_S = 5.0
_PACE_S = 6.0
_PATIENCE_S = 120.0
_PIECES = 3


def print_watch() -> bool:
    """Write the night, watch it come, stop the application in the middle; whether all was met."""
    count = int(os.environ.get(EXPOSURES_VARIABLE, _EXPOSURES))
    with tempfile.TemporaryDirectory(prefix="beacon-watch-") as place:
        night = Path(place) / "night"
        write_plain_night(
            night, 7, exposures=count, shape=_SHAPE, density=_DENSITY, calibration=10,
            cadence_s=65.0,
        )  # fmt: skip
        raw, coming = night / "raw", night / "coming"
        coming.mkdir()
        shutil.move(raw / "calibration", night / "calibration")
        plan = (night / "plan.toml").read_text(encoding="utf-8")
        plan = plan.replace('"raw"', '["coming", "calibration"]')
        (night / "plan.toml").write_text(plan, encoding="utf-8")
        observatory = Observatory(Path(place))
        observatory.start()
        try:
            return _watch(observatory, night, sorted(raw.glob("*.fits")), coming)
        finally:
            observatory.end()


def _watch(observatory: Observatory, night: Path, files: list[Path], coming: Path) -> bool:
    number = observatory.campaign(night)
    observatory.finished(number)
    page = f"campaigns/{number}"
    observatory.ask("PATCH", page, {"watching": True})
    took: list[float] = []
    for at, path in enumerate(files):
        began = time.monotonic()
        if at == len(files) // 2:
            observatory.parts("")[0].kill()  # it is started again by the next question
        _write(path, coming / path.name)
        took.append(_until_point(observatory, page, at + 1))
        path.unlink()
        time.sleep(max(0.0, _PACE_S - (time.monotonic() - began)))
    left_out = [
        f["part_reason"]
        for f in observatory.ask("GET", f"{page}/intake")["files"]
        if f["part"] == "left out"
    ]
    live = _points(observatory, page)
    observatory.ask("PATCH", page, {"watching": False})
    begin = time.monotonic()
    observatory.finished(number)
    again = time.monotonic() - begin
    seconds = np.array(took)
    median, most = float(np.median(seconds)), float(np.percentile(seconds, 95))
    side = _SHAPE[0]
    print(f"A night of {len(files)} exposures of {side} × {side}, written one after the other")
    print(
        f"  from a file closed to its point: median {median:.1f} s (aim {_AIM_S:g}), "
        f"95% {most:.1f} s"
    )
    print(f"  slowest {seconds.max():.1f} s (restarted in the middle, or all measured again)")
    print(f"  points {live} of {len(files)}, files left out {len(left_out)} {left_out[:2]}")
    print(f"  measured as any other night at the end in {again:.0f} s")
    return median < _AIM_S and live == len(files) and not left_out


def _write(source: Path, target: Path) -> None:
    """As a camera writes: piece by piece."""
    content = source.read_bytes()
    with target.open("wb") as file:
        for piece in np.array_split(np.frombuffer(content, np.uint8), _PIECES):
            file.write(piece.tobytes())
            file.flush()
            time.sleep(0.3)


def _points(observatory: Observatory, page: str) -> int:
    curve = observatory.ask("GET", f"{page}/curve")
    return sum(len(f["file_ids"]) for f in curve["filters"])


def _until_point(observatory: Observatory, page: str, count: int) -> float:
    """Seconds until the curve has so many points; infinite where it never comes."""
    began = time.monotonic()
    while time.monotonic() - began < _PATIENCE_S:
        if _points(observatory, page) >= count:
            return time.monotonic() - began
        time.sleep(0.2)
    return float("inf")
