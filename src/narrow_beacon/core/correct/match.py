"""Pick the best master of each kind for an exposure, and say why in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from narrow_beacon.core.correct.fit import (
    Aspect,
    days_apart,
    fit_of,
    grade_of,
    near_in_temperature,
    near_in_time,
    rotator_of,
    what_differs,
)
from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import USUAL_RULES, Rules

_FEW = 10
_LEAST_FRAMES = 3
_PICKED = "picked by the observer: "
_SAID_OTHERWISE = ("age", "temperature", "exposure time")
"""Aspects that have words of their own among a choice's remarks."""


@dataclass(frozen=True)
class Choice:
    """A master for a purpose, why it fits, and what is doubtful about it."""

    index: int | None
    """Position in the list of masters, or None where nothing fits."""
    reason: str
    remarks: tuple[str, ...] = ()


def choose_bias(frame: Frame, masters: Sequence[MasterFacts], rules: Rules = USUAL_RULES) -> Choice:
    """The bias for a frame: same settings, the nearest night."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind == "bias"]
    return _nearest(frame, masters, fits, "bias", ("bias",), rules)


def choose_dark(frame: Frame, masters: Sequence[MasterFacts], rules: Rules = USUAL_RULES) -> Choice:
    """The dark of the frame's own exposure time and temperature, needing no scaling."""
    kinds = ("flat dark", "dark") if frame.kind == "flat" else ("dark", "flat dark")
    same = _same_settings(frame, masters)
    for kind in kinds:
        fits = [
            i
            for i in same
            if masters[i].kind == kind
            and masters[i].count >= _LEAST_FRAMES
            and fits_unscaled(frame, masters[i], rules)
        ]
        if fits:
            return _nearest(frame, masters, fits, kind, kinds, rules)
    wanted = (
        f"no dark within {100 * rules.exposure_tolerance:g}% of {frame.exposure_s:g} s"
        f"{_at(frame.temperature_c)}"
    )
    near = [masters[i] for i in same if masters[i].kind in kinds]
    if near:
        closest = min(near, key=lambda m: abs(m.exposure_s - frame.exposure_s))
        wanted += f"; nearest: {closest.exposure_s:g} s{_at(closest.temperature_c)}"
    else:
        wanted += _not_taken(frame, masters, kinds, rules)
    return Choice(None, wanted)


def choose_dark_to_scale(
    frame: Frame, masters: Sequence[MasterFacts], rules: Rules = USUAL_RULES
) -> Choice:
    """A dark of another length or temperature, to be scaled with its bias off."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind == "dark"]
    if not fits:
        return _no_dark(frame, masters, rules)
    # The longest dark near the temperature carries the most signal to scale.
    best = min(
        fits,
        key=lambda i: (
            not near_in_temperature(frame, masters[i], rules),
            days_apart(frame, masters[i]),
            -masters[i].exposure_s,
        ),
    )
    return Choice(
        best,
        f"{_describe(masters[best])}, to be scaled to {frame.exposure_s:g} s"
        f"{_at(frame.temperature_c)}",
        _remarks(frame, masters[best], rules),
    )


def choose_nearest_dark(
    frame: Frame, masters: Sequence[MasterFacts], rules: Rules = USUAL_RULES
) -> Choice:
    """The dark nearest in length, to be taken off as it is where none can be scaled."""
    fits = [i for i in _same_settings(frame, masters) if masters[i].kind in ("dark", "flat dark")]
    if not fits:
        return _no_dark(frame, masters, rules)
    best = min(
        fits,
        key=lambda i: (
            not near_in_temperature(frame, masters[i], rules),
            abs(masters[i].exposure_s - frame.exposure_s),
            days_apart(frame, masters[i]),
        ),
    )
    return Choice(best, _describe(masters[best]), _remarks(frame, masters[best], rules))


def choose_flat(frame: Frame, masters: Sequence[MasterFacts], rules: Rules = USUAL_RULES) -> Choice:
    """The flat of the frame's filter, of its own night where there is one, and of its own angle of
    the rotator; of a colour sensor's channel that of the glass before it.
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
    straight = [i for i in fits if not _turned(rotator_of(frame, masters[i]))]
    what = f"flat in {glass}" if glass else "flat"
    return _nearest(frame, masters, straight or fits, what, ("flat",), rules)


def picked_master(
    frame: Frame, masters: Sequence[MasterFacts], index: int, rules: Rules = USUAL_RULES
) -> Choice:
    """A master that the observer picked, with everything about it that does not fit."""
    master = masters[index]
    aspects = [a for a in fit_of(frame, master, rules) if a.what not in _SAID_OTHERWISE]
    differs = [f"{master.label}: {a.words}" for a in aspects if grade_of([a]) != "exact"]
    words = f"{_PICKED}{_describe(master)}{_age(frame, master)}"
    return Choice(index, words, (*_remarks(frame, master, rules), *differs))


def _glass(frame: Frame) -> str | None:
    return frame.glass if frame.channel else frame.filter


def _turned(rotator: Aspect | None) -> bool:
    return rotator is not None and rotator.grade != "exact"


def fits_unscaled(frame: Frame, master: MasterFacts, rules: Rules = USUAL_RULES) -> bool:
    """Whether a dark has the exposure's own length and temperature."""
    return near_in_time(frame.exposure_s, master.exposure_s, rules) and near_in_temperature(
        frame, master, rules
    )


def _agree(ours: object, theirs: object) -> bool:
    return ours is None or theirs is None or ours == theirs


def _same_settings(frame: Frame, masters: Sequence[MasterFacts]) -> list[int]:
    settings = _Settings.of(frame)
    return [i for i, master in enumerate(masters) if settings.fit(master)]


def fits_settings(frame: Frame, master: MasterFacts) -> bool:
    """Whether a master is of the frame's camera, size, binning, gain, offset and read-out mode."""
    return _Settings.of(frame).fit(master)


def same_pixels(frame: Frame, master: MasterFacts) -> bool:
    """Whether a master is of the frame's camera, size and binning."""
    return can_be_taken(frame, master) and _agree(frame.camera, master.camera)


def can_be_taken(frame: Frame, master: MasterFacts) -> bool:
    """Whether a master's pixels lie on the frame's, whatever camera they are said to be of."""
    return _Settings.of(frame).lie_on(master)


class _Settings(NamedTuple):
    """What a frame says of its sensor and of how it was read, told once for many masters."""

    shape: tuple[int, int]
    binning: tuple[int, int]
    overscan: bool
    origin: tuple[int, int] | None
    camera: str | None
    gain: float | None
    offset: float | None
    readout_mode: str | None

    @classmethod
    def of(cls, frame: Frame) -> _Settings:
        return cls(
            frame.sensor_shape, frame.binning, frame.overscan, frame.origin, frame.camera,
            frame.gain_setting, frame.offset_setting, frame.readout_mode,
        )  # fmt: skip

    def lie_on(self, master: MasterFacts) -> bool:
        """Whether a master's pixels are these."""
        return (
            master.shape == self.shape
            and master.binning == self.binning
            and _agree(self.origin, master.origin)
            and self.overscan == master.overscan
        )

    def fit(self, master: MasterFacts) -> bool:
        """Whether they are, of this camera and as it was set."""
        return (
            self.lie_on(master)
            and _agree(self.camera, master.camera)
            and _agree(self.gain, master.gain_setting)
            and _agree(self.offset, master.offset_setting)
            and _agree(self.readout_mode, master.readout_mode)
        )


def _no_dark(frame: Frame, masters: Sequence[MasterFacts], rules: Rules) -> Choice:
    nearest = _not_taken(frame, masters, ("dark", "flat dark"), rules)
    return Choice(None, f"no dark with the exposure's settings{nearest}")


def _not_taken(
    frame: Frame, masters: Sequence[MasterFacts], kinds: Sequence[str], rules: Rules
) -> str:
    """The master that comes nearest to fitting, and why it does not."""
    fits = [(fit_of(frame, m, rules), m) for m in masters if m.kind in kinds]
    if not fits:
        return ""
    aspects, nearest = min(
        fits, key=lambda one: (sum(a.grade != "exact" for a in one[0]), days_apart(frame, one[1]))
    )
    why = what_differs(aspects) or "its overscan or its place on the sensor is another"
    return f"; nearest, not taken: {_describe(nearest)} ({why})"


def _nearest(
    frame: Frame, masters: Sequence[MasterFacts], fits: list[int], what: str,
    kinds: Sequence[str], rules: Rules,
) -> Choice:  # fmt: skip
    if not fits:
        return Choice(None, f"no {what} that fits{_not_taken(frame, masters, kinds, rules)}")

    def days(master: MasterFacts) -> float:
        # One of no stated night may be of any: those that are young enough come first.
        return days_apart(frame, master) if master.night else rules.lasts_days

    best = min(fits, key=lambda i: (days(masters[i]), -masters[i].count))
    return Choice(
        best,
        f"{_describe(masters[best])}{_age(frame, masters[best])}",
        _remarks(frame, masters[best], rules),
    )


def _age(frame: Frame, master: MasterFacts) -> str:
    if not master.night:
        return ", of no stated night"
    days = days_apart(frame, master)
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


def _remarks(frame: Frame, master: MasterFacts, rules: Rules) -> tuple[str, ...]:
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
    days = days_apart(frame, master)
    if master.kind == "flat" and not master.night:
        remarks.append(f"{master.label} has no date: it is taken to fit every night")
    if master.kind == "flat" and days > 0:
        remarks.append(f"{master.label} is not of the exposure's night: dust may have moved")
    elif days > rules.lasts_days:
        remarks.append(f"{master.label} is {days} days old, more than the {rules.lasts_days:g} set")
    rotator = rotator_of(frame, master) if master.kind == "flat" else None
    if rotator is not None and _turned(rotator):
        remarks.append(f"{master.label}: {rotator.words}; dust and corners lie elsewhere")
    if master.kind in ("bias", "dark") and not near_in_temperature(frame, master, rules):
        remarks.append(
            f"{master.label} is{_at(master.temperature_c)}, the exposure{_at(frame.temperature_c)}"
        )
    return tuple(remarks)
