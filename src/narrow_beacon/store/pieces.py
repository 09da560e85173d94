"""Small results as files below the data folder, named by what they are made of: censuses that are
not joined yet, and what probes said. Written whole or not at all.
"""

from __future__ import annotations

import json
import os
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.reduce.codec import quality_from_json, quality_to_json
from narrow_beacon.reduce.context import Probed
from narrow_beacon.reduce.looking import Looked, StarList
from narrow_beacon.store.census_runs import record_kind, records_of


@dataclass(frozen=True)
class Piece:
    """The census of one exposure: what its stars share, and their records."""

    radii_px: Floats
    noise: Floats
    records: np.ndarray


def write_piece(path: Path, census: ExposureCensus) -> None:
    """Write the census of one exposure, exact to the last bit: a line of JSON, then its stars."""
    head = {"radii_px": census.radii_px.tolist(), "noise": census.noise.tolist()}
    scratch = path.with_suffix(f".{os.getpid()}.new")
    with scratch.open("wb") as file:
        file.write(json.dumps(head).encode() + b"\n")
        file.write(records_of(census).tobytes())
    scratch.replace(path)


def read_piece(path: Path) -> Piece:
    """What ``write_piece`` wrote."""
    with path.open("rb") as file:
        head = json.loads(file.readline())
        radii = np.array(head["radii_px"], float)
        records = np.frombuffer(bytearray(file.read()), record_kind(radii.size))
    return Piece(radii, np.array(head["noise"], float), records)


def write_looked(path: Path, looked: Looked) -> None:
    """Write what an exposure looks like."""
    quality = quality_to_json(looked.quality) if looked.quality else None
    plain = json.dumps({"quality": quality, "trouble": looked.trouble})
    stars = vars(looked.stars) if looked.stars else {}
    scratch = path.with_suffix(f".{os.getpid()}.new")
    with scratch.open("wb") as file:
        np.savez(file, plain=np.array(plain), **stars)
    scratch.replace(path)


def read_looked(path: Path) -> Looked:
    """What ``write_looked`` wrote."""
    with np.load(path, allow_pickle=False) as kept:
        plain = json.loads(str(kept["plain"]))
        names = [field.name for field in fields(StarList)]
        stars = StarList(*(kept[name] for name in names)) if names[0] in kept else None
    quality = quality_from_json(plain["quality"]) if plain["quality"] else None
    return Looked(quality, stars, plain["trouble"])


def write_probed(path: Path, probed: Probed) -> None:
    """Write what a group's probes said."""
    write_text(path, json.dumps(probed.to_json()))


def read_probed(path: Path) -> Probed:
    """What ``write_probed`` wrote."""
    return Probed.from_json(json.loads(path.read_text()))


def write_text(path: Path, text: str) -> None:
    """Write a small text."""
    scratch = path.with_suffix(f".{os.getpid()}.new")
    scratch.write_text(text)
    scratch.replace(path)
