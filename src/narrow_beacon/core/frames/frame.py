"""A file of a night as it is read, what the observer says of it, and what it counts as."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from narrow_beacon.core.frames.fits_file import PixelSource
from narrow_beacon.core.frames.header import FrameFacts
from narrow_beacon.core.frames.levels import Levels


@dataclass(frozen=True, slots=True)
class Frame:
    """One file of the night: where it is, what it is, and what its header says."""

    name: str
    sha256: str
    source: PixelSource
    facts: FrameFacts
    kind: str
    filter: str | None
    mid_utc: datetime | None
    exposure_s: float
    temperature_c: float | None
    night: str
    levels: Levels | None = None
    """Of calibration frames, once their pixels were read."""
    pixels_print: str = ""
    """A name of its pixels, where another file may be the same exposure."""
    camera: str | None = None
    """Where stated, or where only one camera has this size and binning."""
    telescope: str | None = None
    """Where a camera was on more than one."""
    part: str = ""
    """Which image of its file it is, where that has several."""
    mosaic: str | None = None
    """The colour pattern of a colour sensor's pixels."""
    channel: str = ""
    """The colour of an exposure that was taken apart; it is its filter."""
    glass: str | None = None
    """The filter that such a sensor looked through, if any."""
    second: PixelSource | None = None
    """The other pixels of a colour that has two in four."""
    whole: tuple[int, int] | None = None
    """(height, width) of the image that a channel is a part of."""

    @property
    def file(self) -> str:
        """The name of the file, which channels have in common."""
        return self.name.removesuffix(f" [{self.channel}]") if self.channel else self.name

    @property
    def sensor_shape(self) -> tuple[int, int]:
        """(height, width) of all pixels that see light, of whatever colour."""
        return self.whole or self.shape

    @property
    def binning(self) -> tuple[int, int]:
        """Binning in x and y; 1 × 1 where the header is silent."""
        return self.facts.binning.value if self.facts.binning else (1, 1)

    @property
    def gain_setting(self) -> float | None:
        """The camera's gain setting, where stated."""
        return self.facts.gain_setting.value if self.facts.gain_setting else None

    @property
    def offset_setting(self) -> float | None:
        """The camera's offset setting, where stated."""
        return self.facts.offset_setting.value if self.facts.offset_setting else None

    @property
    def readout_mode(self) -> str | None:
        """The camera's readout mode, where stated."""
        return self.facts.readout_mode.value if self.facts.readout_mode else None

    @property
    def origin(self) -> tuple[int, int] | None:
        """Of a sub-frame on the sensor, where stated."""
        return self.facts.origin.value if self.facts.origin else None

    @property
    def combined(self) -> int:
        """How many exposures this program combined into it; 0 for one of a camera."""
        return int(self.facts.combined.value) if self.facts.combined else 0

    @property
    def setting(self) -> str:
        """Gain, offset, read-out mode and how many were combined, in words; nothing where the
        header is silent.
        """
        parts = []
        if self.gain_setting is not None:
            parts.append(f"gain {self.gain_setting:g}")
        if self.offset_setting is not None:
            parts.append(f"offset {self.offset_setting:g}")
        if self.readout_mode:
            parts.append(self.readout_mode)
        if self.combined:
            parts.append(f"{self.combined} combined")
        return ", ".join(parts)

    @property
    def shape(self) -> tuple[int, int]:
        """(height, width) in pixels."""
        return self.source.height, self.source.width

    @property
    def overscan(self) -> bool:
        """Whether every row's level is known from overscan, and taken off."""
        return bool(self.source.strips)

    @property
    def kit(self) -> str:
        """Sensor and telescope in words: what is corrected and measured together."""
        return f"{self.sensor}, {self.telescope}" if self.telescope else self.sensor

    @property
    def known_as(self) -> tuple[str, ...]:
        """Names under which words on its kit may stand, the most specific first."""
        names = dict.fromkeys((self.kit, self.sensor))
        return (*(f"{name}, {self.setting}" for name in names if self.setting), *names)

    @property
    def sensor(self) -> str:
        """Camera, size and binning in words."""
        height, width = self.sensor_shape
        parts = [self.camera or "camera", f"{width} × {height}"]
        if self.binning != (1, 1):
            parts.append("binned {} × {}".format(*self.binning))
        if self.origin not in (None, (0, 0)):
            parts.append("from {}, {}".format(*(self.origin or (0, 0))))
        return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A file that takes no part, and why."""

    name: str
    reason: str
    kind: str = ""
    filter: str = ""
    sha256: str = ""

    @property
    def file(self) -> str:
        """The name of the file."""
        return self.name


@dataclass(frozen=True, slots=True)
class RawFile:
    """One file as it is: its header's facts, or the problem that keeps it from having any."""

    name: str
    sha256: str
    source: PixelSource | None
    facts: FrameFacts | None
    problem: str
    levels: Levels | None = None
    """Of what its header calls a calibration frame."""
    sky_stars: int = 0
    """Sure stars on what its header calls a bias or a dark."""
    pixels_print: str = ""
    """A name of its pixels, where another file may be the same exposure."""
    part: str = ""
    """Which image of its file it is, where that has several; the end of its name."""


@dataclass(frozen=True)
class Correction:
    """What the observer says of a file, in place of its header. Absent values are None.

    ``time_utc`` is the start; ``shift_s`` is added to the header's time instead (a clock that is
    wrong, a zone), ``moment`` says what that is the time of: "start", "middle" or "end".
    """

    kind: str | None = None
    filter: str | None = None
    exposure_s: float | None = None
    time_utc: datetime | None = None
    shift_s: float | None = None
    moment: str | None = None
    temperature_c: float | None = None
    gain_setting: float | None = None
    offset_setting: float | None = None
    camera: str | None = None
    telescope: str | None = None
    ra_deg: float | None = None
    dec_deg: float | None = None
    aside: str | None = None
    """Why it takes no part, whatever it is."""


@dataclass(frozen=True)
class TimeRule:
    """How the header's time becomes the middle of the exposure."""

    header_time: str = "start"
    clock_offset_s: float = 0.0
    longitude_deg: float = 0.0
    linear_limit_adu: float | None = None
    """Above it flats are no flats, where it is known."""
    pattern: str | None = None
    """The colour pattern, where the observer says it; else the header's."""


@dataclass(frozen=True)
class SortedNight:
    """What a set of files holds."""

    exposures: tuple[Frame, ...]
    calibration: tuple[Frame, ...]
    left_out: tuple[LeftOut, ...]
