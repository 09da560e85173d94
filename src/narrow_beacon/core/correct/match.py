"""Pick the best master of each kind for an exposure, and say why in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Frame

EXPOSURE_TOLERANCE = 0.02
_TEMPERATURE_TOLERANCE_C = 1.5
_OLD_DAYS = 60
_FEW = 10
_LEAST_FRAMES = 3
_PICKED = "picked by the observer: "


@dataclass(frozen=True)
class Choice:
    """A master for a purpose, why it fits, and what is doubtful about it."""

    index: int | None
    """Position in the list of masters, or None where nothing fits."""
    reason: str
    remarks: tuple[str, ...] = ()


def choose_bias(frame: Frame, masters: Sequence[MasterFacts]) -> Choice:
    """The bias for a frame: same settings, the nearest night."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind == "bias"]
    return _nearest(frame, masters, fits, "bias")


def choose_dark(frame: Frame, masters: Sequence[MasterFacts]) -> Choice:
    """The dark of the frame's own exposure time and temperature, needing no scaling."""
    kinds = ("flat dark", "dark") if frame.kind == "flat" else ("dark", "flat dark")
    same = _same_settings(frame, masters)
    for kind in kinds:
        fits = [
            i
            for i in same
            if masters[i].kind == kind
            and masters[i].count >= _LEAST_FRAMES
            and fits_unscaled(frame, masters[i])
        ]
        if fits:
            return _nearest(frame, masters, fits, kind)
    near = [masters[i] for i in same if masters[i].kind in kinds]
    wanted = f"no dark within 2% of {frame.exposure_s:g} s" + _at(frame.temperature_c)
    if near:
        closest = min(near, key=lambda m: abs(m.exposure_s - frame.exposure_s))
        wanted += f"; nearest: {closest.exposure_s:g} s{_at(closest.temperature_c)}"
    return Choice(None, wanted)


def choose_dark_to_scale(frame: Frame, masters: Sequence[MasterFacts]) -> Choice:
    """A dark of another length or temperature, to be scaled with its bias off."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind == "dark"]
    if not fits:
        return Choice(None, "no dark with the exposure's settings")
    # The longest dark near the temperature carries the most signal to scale.
    best = min(
        fits,
        key=lambda i: (
            not _near(frame, masters[i]),
            _days(frame, masters[i]),
            -masters[i].exposure_s,
        ),
    )
    return Choice(
        best,
        f"{_describe(masters[best])}, to be scaled to {frame.exposure_s:g} s"
        f"{_at(frame.temperature_c)}",
        _remarks(frame, masters[best]),
    )


def choose_nearest_dark(frame: Frame, masters: Sequence[MasterFacts]) -> Choice:
    """The dark nearest in length, to be taken off as it is where none can be scaled."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind in ("dark", "flat dark")]
    if not fits:
        return Choice(None, "no dark with the exposure's settings")
    best = min(
        fits,
        key=lambda i: (
            not _near(frame, masters[i]), abs(masters[i].exposure_s - frame.exposure_s),
            _days(frame, masters[i]),
        ),
    )  # fmt: skip
    return Choice(best, _describe(masters[best]), _remarks(frame, masters[best]))


def choose_flat(frame: Frame, masters: Sequence[MasterFacts]) -> Choice:
    """The flat of the frame's filter, of its own night where there is one; of a colour sensor's
    channel that of the glass before it.
    """
    glass = _glass(frame)
    fits = [
        i
        for i, master in enumerate(masters)
        if master.kind == "flat"
        and master.filter == glass
        and same_pixels(frame, master)
        and _agree(frame.telescope, master.telescope)
    ]
    return _nearest(frame, masters, fits, f"flat in {glass}" if glass else "flat")


def picked_master(frame: Frame, masters: Sequence[MasterFacts], index: int) -> Choice:
    """A master that the observer picked, with everything about it that does not fit."""
    master = masters[index]
    remarks = list(_remarks(frame, master))
    if master.kind == "flat" and master.filter != _glass(frame):
        remarks.append(
            f"{master.label} is a flat in {master.filter}, the exposure in {_glass(frame)}"
        )
    for what, ours, theirs in (
        ("gain", frame.gain_setting, master.gain_setting),
        ("offset", frame.offset_setting, master.offset_setting),
        ("readout mode", frame.readout_mode, master.readout_mode),
        ("binning", frame.binning, master.binning),
        ("camera", frame.camera, master.camera),
        ("telescope", frame.telescope, master.telescope),
    ):
        if not _agree(ours, theirs):
            remarks.append(f"{master.label} has {what} {theirs}, the exposure {ours}")
    words = f"{_PICKED}{_describe(master)}{_age(frame, master)}"
    return Choice(index, words, tuple(remarks))


def _glass(frame: Frame) -> str | None:
    return frame.glass if frame.channel else frame.filter


def fits_unscaled(frame: Frame, master: MasterFacts) -> bool:
    """Whether a dark has the exposure's own length and temperature."""
    return _same_exposure(frame, master) and _near(frame, master)


def _agree(ours: object, theirs: object) -> bool:
    return ours is None or theirs is None or ours == theirs


def _same_settings(frame: Frame, masters: Sequence[MasterFacts]) -> list[int]:
    return [i for i, master in enumerate(masters) if fits_settings(frame, master)]


def fits_settings(frame: Frame, master: MasterFacts) -> bool:
    """Whether a master is of the frame's camera, size, binning, gain, offset and read-out mode."""
    return (
        same_pixels(frame, master)
        and _agree(frame.gain_setting, master.gain_setting)
        and _agree(frame.offset_setting, master.offset_setting)
        and _agree(frame.readout_mode, master.readout_mode)
    )


def same_pixels(frame: Frame, master: MasterFacts) -> bool:
    """Whether a master is of the frame's camera, size and binning."""
    return (
        master.shape == frame.sensor_shape
        and master.binning == frame.binning
        and _agree(frame.camera, master.camera)
        and _agree(frame.origin, master.origin)
        and frame.overscan == master.overscan
    )


def _same_exposure(frame: Frame, master: MasterFacts) -> bool:
    return abs(master.exposure_s - frame.exposure_s) <= EXPOSURE_TOLERANCE * frame.exposure_s


def _near(frame: Frame, master: MasterFacts) -> bool:
    if frame.temperature_c is None or master.temperature_c is None:
        return True
    return abs(frame.temperature_c - master.temperature_c) <= _TEMPERATURE_TOLERANCE_C


def _nearest(frame: Frame, masters: Sequence[MasterFacts], fits: list[int], what: str) -> Choice:
    if not fits:
        return Choice(None, f"no {what} that fits")
    best = min(fits, key=lambda i: (_days(frame, masters[i]), -masters[i].count))
    return Choice(
        best,
        f"{_describe(masters[best])}{_age(frame, masters[best])}",
        _remarks(frame, masters[best]),
    )


def _days(frame: Frame, master: MasterFacts) -> int:
    if not frame.night or not master.night:
        return 0
    return abs((date.fromisoformat(frame.night) - date.fromisoformat(master.night)).days)


def _age(frame: Frame, master: MasterFacts) -> str:
    if not master.night:
        return ", of no stated night"
    days = _days(frame, master)
    return ", same night" if days == 0 else f", {days} day{'s' if days > 1 else ''} apart"


def _at(temperature_c: float | None) -> str:
    return "" if temperature_c is None else f" at {temperature_c:.0f} °C".replace("-", "−")


def _describe(master: MasterFacts) -> str:
    name = {
        "bias": "bias frames",
        "flat": f"flats in {master.filter}" if master.filter else "flats",
    }.get(master.kind, f"{master.kind}s of {master.exposure_s:g} s")
    if master.count == 1:
        name = name.replace("frames", "frame").replace("flats", "flat").replace("darks", "dark")
    return f"{master.count} {name}{'' if master.kind == 'flat' else _at(master.temperature_c)}"


def _remarks(frame: Frame, master: MasterFacts) -> tuple[str, ...]:
    remarks = []
    if master.count < _FEW:
        remarks.append(
            f"only {master.count} frame{'s' if master.count > 1 else ''} in {master.label}; "
            "10 or more are wanted"
        )
    if master.camera and not frame.camera:
        remarks.append(
            f"the exposure does not say its camera; {master.label} is of {master.camera}"
        )
    days = _days(frame, master)
    if master.kind == "flat" and not master.night:
        remarks.append(f"{master.label} has no date: it is taken to fit every night")
    if master.kind == "flat" and days > 0:
        remarks.append(f"{master.label} is not of the exposure's night: dust may have moved")
    elif days > _OLD_DAYS:
        remarks.append(f"{master.label} is {days} days old")
    if master.kind in ("bias", "dark") and not _near(frame, master):
        remarks.append(
            f"{master.label} is{_at(master.temperature_c)}, the exposure{_at(frame.temperature_c)}"
        )
    return tuple(remarks)
