"""What the frames of a kit show of it: noise, and where its camera stops."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from narrow_beacon.core.arrays import evenly
from narrow_beacon.core.correct.clipping import Top, look_at_top
from narrow_beacon.core.correct.photon_transfer import (
    FRAMES_OF_NOISE,
    CameraNoise,
    measure_camera_noise,
)
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.cut import cut_share
from narrow_beacon.core.frames.fits_file import PixelSource, read_stored
from narrow_beacon.core.frames.frame import Frame, SortedNight
from narrow_beacon.rescue import Rescue

_TOP_EXPOSURES, _TOP_FLATS = 8, 3


@dataclass(frozen=True)
class KitShown:
    """Gain and read noise as measured, the upper ends of some frames, and the shares of pixels of
    bias frames and exposures that are 0, for the camera gives no less.
    """

    noise: CameraNoise | None
    tops: tuple[Top, ...]
    cut_bias: float = 0.0
    cut_sky: float = 0.0


@dataclass(frozen=True)
class KitFrames:
    """The frames of a kit that are looked at: for its noise flats and bias frames, for the level at
    which it stops exposures over the night and flats.
    """

    flats: tuple[Frame, ...]
    biases: tuple[Frame, ...]
    bright: tuple[Frame, ...]


def setting_of(frame: Frame) -> str:
    """Kit and setting: what has constants of its own."""
    return f"{frame.kit}, {frame.setting}" if frame.setting else frame.kit


def settings_used(exposures: Sequence[Frame]) -> Counter[str]:
    """The exposures of each kit and setting, in order of their first."""
    # A colour sensor's exposure counts once, whatever it is taken apart into.
    files = dict.fromkeys((setting_of(f), f.file) for f in exposures)
    return Counter(name for name, _ in files)


def kit_frames(night: SortedNight) -> dict[str, KitFrames]:
    """The frames that are looked at for each kit and setting that took an exposure."""
    exposures: dict[str, list[Frame]] = defaultdict(list)
    calibration: dict[str, list[Frame]] = defaultdict(list)
    for frames, by_setting in ((night.exposures, exposures), (night.calibration, calibration)):
        for frame in frames:
            by_setting[setting_of(frame)].append(frame)
    found = {}
    for name, own in exposures.items():
        flats = [frame for frame in calibration[name] if frame.kind == "flat"]
        biases = [frame for frame in calibration[name] if frame.kind == "bias"]
        bright = [*_some(own, _TOP_EXPOSURES), *_some(flats, _TOP_FLATS)]
        alike = [f for f in flats if (f.filter, f.night) == (flats[0].filter, flats[0].night)]
        found[name] = KitFrames(
            tuple(alike[:FRAMES_OF_NOISE]), tuple(biases[:FRAMES_OF_NOISE]), tuple(bright)
        )
    return found


def look_at_kit(frames: KitFrames) -> KitShown:
    """What the frames show; one that can't be read is left out, as is said where it is used."""
    try:
        noise = measure_camera_noise(frames.flats, frames.biases)
    except (UnreadableFileError, OSError):
        noise = None
    seen = [(f.kind, ends) for f in frames.bright if (ends := _ends_of(f.source, f.sha256))]
    biases = [ends for f in frames.biases if (ends := _ends_of(f.source, f.sha256))]
    cut_bias = _usual([cut for _, cut in biases])
    return KitShown(
        None if cut_bias else noise, tuple(top for _, (top, _) in seen), cut_bias,
        _usual([cut for kind, (_, cut) in seen if kind == "exposure"]),
    )  # fmt: skip


def _usual(shares: Sequence[float]) -> float:
    """The middle one of some frames' shares."""
    return sorted(shares)[len(shares) // 2] if shares else 0.0


def look_at_kits(night: SortedNight) -> dict[str, KitShown]:
    """What the frames of each kit and setting show, looked at one after the other."""
    return {name: look_at_kit(frames) for name, frames in kit_frames(night).items()}


KIT_LOST: Rescue[KitShown] = Rescue(
    lambda call: [call], lambda _call, _words: KitShown(None, ()), lambda parts: parts[0]
)
"""A kit of which nothing can be seen has what is said of it, or what is assumed."""


def _some(frames: Sequence[Frame], most: int) -> list[Frame]:
    """Some frames, from the first to the last."""
    return [frames[n] for n in evenly(len(frames), most)]


@lru_cache(maxsize=256)
def _ends_of(source: PixelSource, sha256: str) -> tuple[Top, float] | None:
    """The upper end of an image and how much of the lower is cut off; another content below the
    same name is looked at again.
    """
    try:
        pixels = source.cut(read_stored(source))
    except (UnreadableFileError, OSError):
        return None
    return look_at_top(pixels, source.scale.most), cut_share(pixels)
