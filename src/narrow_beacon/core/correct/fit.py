"""How well a master fits a frame, aspect by aspect: exactly, scaled, or poorly."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.kits import Rules

EXACT, SCALED, POOR = "exact", "scaled", "poor"
GRADES = (EXACT, SCALED, POOR)
"""From the best fit to the worst."""
_TURNED_DEG = 0.5


@dataclass(frozen=True)
class Aspect:
    """One thing in which a master is compared with a frame: how well it fits, and both in words."""

    what: str
    grade: str
    words: str


def fit_of(frame: Frame, master: MasterFacts, rules: Rules) -> tuple[Aspect, ...]:
    """All in which a master is compared with a frame, in the order in which it matters.

    What either of them does not say is taken to agree.
    """
    facts = frame.facts
    made: list[Aspect | None] = [
        _setting("pixels", _size(*frame.sensor_shape), _size(*master.shape)),
        _setting("binning", _times(frame.binning), _times(master.binning)),
        _setting("camera", frame.camera, master.camera),
        _setting("gain", frame.gain_setting, master.gain_setting),
        _setting("offset", frame.offset_setting, master.offset_setting),
        _setting("read-out mode", frame.readout_mode, master.readout_mode),
    ]
    if master.kind == "flat":
        made += [
            _setting("filter", frame.glass if frame.channel else frame.filter, master.filter),
            _setting("telescope", frame.telescope, master.telescope),
            rotator_of(frame, master),
            _focus(
                facts.focus_position.value if facts.focus_position else None, master.focus_position
            ),
        ]
    else:
        made.append(_temperature(frame.temperature_c, master, rules))
        if master.kind != "bias":
            made.append(_exposure(frame.exposure_s, master.exposure_s, rules))
    made.append(_age(frame, master, rules))
    return tuple(aspect for aspect in made if aspect is not None)


def grade_of(aspects: Iterable[Aspect]) -> str:
    """The worst of some aspects' grades; that of none is EXACT."""
    return max((aspect.grade for aspect in aspects), key=GRADES.index, default=EXACT)


def what_differs(aspects: Iterable[Aspect]) -> str:
    """What does not fit exactly, in words."""
    return ", ".join(aspect.words for aspect in aspects if aspect.grade != EXACT)


def days_apart(frame: Frame, master: MasterFacts) -> int:
    """Nights between a frame and a master; 0 where either has no date."""
    if not frame.night or not master.night:
        return 0
    return abs((date.fromisoformat(frame.night) - date.fromisoformat(master.night)).days)


def near_in_temperature(frame: Frame, master: MasterFacts, rules: Rules) -> bool:
    """Whether the rules take both temperatures for the same."""
    if frame.temperature_c is None or master.temperature_c is None:
        return True
    return abs(frame.temperature_c - master.temperature_c) <= rules.temperature_tolerance_c


def near_in_time(exposure_s: float, dark_s: float, rules: Rules) -> bool:
    """Whether the rules take both exposure times for the same."""
    return abs(dark_s - exposure_s) <= rules.exposure_tolerance * exposure_s


def _setting(what: str, ours: object, theirs: object) -> Aspect | None:
    if ours is None or theirs is None:
        return None
    if ours == theirs:
        return Aspect(what, EXACT, f"{what} {_plain(ours)}")
    return Aspect(what, POOR, f"{what} {_plain(theirs)} for {_plain(ours)}")


def _plain(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _size(height: int, width: int) -> str:
    return f"{width} × {height}"


def _times(binning: tuple[int, int]) -> str:
    return "{} × {}".format(*binning)


def _temperature(ours: float | None, master: MasterFacts, rules: Rules) -> Aspect | None:
    theirs = master.temperature_c
    if ours is None or theirs is None:
        return None
    if abs(ours - theirs) <= rules.temperature_tolerance_c:
        return Aspect("temperature", EXACT, _minus(f"{theirs:.1f} °C"))
    grade = POOR if master.kind == "bias" else SCALED
    return Aspect("temperature", grade, _minus(f"{theirs:.1f} °C for {ours:.1f} °C"))


def _exposure(ours: float, theirs: float, rules: Rules) -> Aspect:
    if near_in_time(ours, theirs, rules):
        return Aspect("exposure time", EXACT, f"{theirs:g} s")
    return Aspect("exposure time", SCALED, f"{theirs:g} s for {ours:g} s")


def rotator_of(frame: Frame, master: MasterFacts) -> Aspect | None:
    """The rotator's angle: with another one dust and corners lie elsewhere."""
    ours, theirs = frame.facts.rotator_deg, master.rotator_deg
    if not ours or theirs is None:
        return None
    apart = abs((ours.value - theirs + 180.0) % 360.0 - 180.0)
    if apart >= 180.0 - _TURNED_DEG:
        # Some programs write the angle on the sky, which turns with a meridian flip.
        return Aspect("rotator", EXACT, "turned by 180° against it, as by a meridian flip")
    if apart <= _TURNED_DEG:
        return Aspect("rotator", EXACT, f"rotator at {theirs:.1f}°")
    return Aspect("rotator", POOR, f"camera turned by {apart:.1f}° against it")


def _focus(ours: float | None, theirs: float | None) -> Aspect | None:
    """The focuser's place. A small change moves no dust: it is shown and not held against it."""
    if ours is None or theirs is None:
        return None
    words = f"focuser at {theirs:g}" + ("" if ours == theirs else f" for {ours:g}")
    return Aspect("focuser", EXACT, words)


def _age(frame: Frame, master: MasterFacts, rules: Rules) -> Aspect | None:
    if not master.night:
        grade = POOR if master.kind == "flat" else EXACT
        return Aspect("age", grade, "of no stated night")
    if not frame.night:
        return None
    days = days_apart(frame, master)
    if days == 0:
        return Aspect("age", EXACT, "same night")
    words = f"{days} day{'s' if days > 1 else ''} apart"
    if master.kind == "flat":
        return Aspect("age", POOR, f"of another night’s set-up, {words}")
    if days > rules.lasts_days:
        return Aspect("age", POOR, f"{words}, more than the {rules.lasts_days:g} that it lasts")
    return Aspect("age", EXACT, words)


def _minus(words: str) -> str:
    return words.replace("-", "−")
