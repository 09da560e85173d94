"""Sort: what every file of some nights counts as, by its header, the plan and the observer."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatch

import numpy as np

from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.frames.fits_file import FULL_ADU, shares_scaled
from narrow_beacon.core.frames.frame import (
    Correction,
    Frame,
    LeftOut,
    RawFile,
    SortedNight,
    TimeRule,
)
from narrow_beacon.core.frames.sort import longitude_by_pause, settle, sort_night
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.words import counted
from narrow_beacon.plan import Plan

_GIVE_SITE = "give latitude and longitude in Intake, under Site, or under [site] in a plan"


@dataclass(frozen=True)
class SortedFiles:
    """The files in their parts, the plan with what headers add to it, and what was assumed."""

    night: SortedNight
    plan: Plan
    remarks: tuple[Remark, ...]

    @property
    def site(self) -> Site | None:
        """The plan's site, else the headers'."""
        return self.plan.site


def sort_raw_files(
    plan: Plan, raws: Sequence[RawFile], words: Mapping[str, Correction]
) -> SortedFiles:
    """Sort files by what was read of them; ``words`` are the observer's, by the file's name.

    Where the plan has no site or target, those of the headers stand in.
    """
    remarks = []
    if plan.site is None:
        plan, remark = _site_from_headers(plan, raws)
        remarks.append(remark)
        if plan.site is None and _longitude_of(raws):
            remarks.append(
                Remark(
                    "intake",
                    "nights are told apart by the longest pause in the day, as the site is unknown",
                    matters="a night that is cut in two has two sets of masters",
                    remedy=_GIVE_SITE,
                )
            )
    items = inspected(plan, raws, words)
    night = sort_night(items, plan.linear_limit_adu)
    if not night.exposures:
        remarks = []
    undated = sum(not frame.night for frame in night.calibration if frame.kind == "flat")
    if undated:
        remarks.append(
            Remark(
                "intake",
                f"{undated} flat{'s have' if undated > 1 else ' has'} no date: taken to fit every "
                "night",
                matters="a few mmag where dust moved since they were taken",
                remedy="give their date in Intake, for all of them at once",
            )
        )
    remarks += _assumed(raws, items)
    return SortedFiles(night, _target_from_headers(plan, night), tuple(remarks))


def _assumed(raws: Sequence[RawFile], items: Sequence[Frame | LeftOut]) -> list[Remark]:
    """Words on what was made of pixels and headers that don't say all."""
    remarks = []
    scaled = sum(bool(raw.source and shares_scaled(raw.source)) for raw in raws)
    if scaled:
        remarks.append(
            Remark(
                "intake",
                f"{counted(scaled, 'file has', 'files have')} values from 0 to 1: taken as "
                f"shares of the {FULL_ADU:.0f} steps of a converter of 16 bits",
                matters="gain, read noise and linear limit are those of such ADU",
                remedy="let the capture program write whole numbers",
            )
        )
    remarks += _doubted(raws)
    short = [
        item
        for item in items
        if isinstance(item, Frame) and item.kind == "bias"
        and item.facts.kind and item.facts.kind.value != "bias"
    ]  # fmt: skip
    if short:
        remarks.append(
            Remark(
                "intake",
                f"{counted(len(short), 'dark of 0 s is', 'darks of 0 s are')} taken as bias frames",
                matters="nothing, if their exposure time is right",
                remedy="give their exposure time in Intake",
            )
        )  # fmt: skip
    return remarks


_DOUBTS = {
    "sections": (
        "the whole image is taken to see light, and no overscan is used",
        "rows whose level wanders stay in it; the strip counts as sky",
        "let the capture program write its sections right",
    ),
    "planes": (
        "the planes of a cube are taken to follow one another without a pause",
        "times are off by the pauses, the more so the later in the cube",
        "write CADENCE or DATE-END into its header, or files of one exposure each",
    ),
}
"""What is made of facts that headers leave in doubt, what that may cost, what can be done."""


def _doubted(raws: Sequence[RawFile]) -> list[Remark]:
    """Words on what headers contradict or leave out, where files take part all the same."""
    remarks = []
    for name, (made, matters, remedy) in _DOUBTS.items():
        said = [
            raw.facts.conflicts[name] for raw in raws if raw.facts and name in raw.facts.conflicts
        ]
        if said:
            words = f"{len(said)} images: {said[0]}; {made}"
            remarks.append(Remark("intake", words, matters=matters, remedy=remedy))
    return remarks


def inspected(
    plan: Plan,
    raws: Sequence[RawFile],
    words: Mapping[str, Correction],
    wanted: Container[str] | None = None,
) -> list[Frame | LeftOut]:
    """What every file is by itself, before it is held against the others; or those of the names
    ``wanted``, among all of ``raws``.
    """
    longitude = plan.site.longitude_deg if plan.site else _longitude_of(raws)
    rule = TimeRule(plan.timestamp, plan.clock_offset_s, longitude)
    coloured = replace(rule, pattern=plan.pattern)
    sensors = {_camera_of(raw) for raw in raws if raw.facts and raw.facts.mosaic}
    # A pattern as given is that of the cameras whose headers have one, however wrong; of all where
    # none has.
    return [
        settle(
            raw, plan.default_filter,
            coloured if not sensors or _camera_of(raw) in sensors else rule,
            _said_of(plan, raw.name, words.get(raw.name)),
        )
        for raw in raws
        if wanted is None or raw.name in wanted
    ]  # fmt: skip


def _said_of(plan: Plan, name: str, word: Correction | None) -> Correction | None:
    """The observer's word on a file, with what the plan says of it and leaves out."""
    word = word or plan.files.get(name)
    if not any(fnmatch(name, pattern) for pattern in plan.leave_out):
        return word
    return replace(word or Correction(), aside="left out in the plan")


def _camera_of(raw: RawFile) -> str | None:
    return raw.facts.camera.value if raw.facts and raw.facts.camera else None


def changed_words(before: Frame | LeftOut, after: Frame | LeftOut) -> list[str]:
    """What is another in what a file counts as, before and after."""
    old, new = _told(before), _told(after)
    return [
        f"{name} {old.get(name) or 'nothing'} → {new.get(name) or 'nothing'}"
        for name in dict.fromkeys([*old, *new])
        if old.get(name) != new.get(name)
    ]


def _told(item: Frame | LeftOut) -> dict[str, str]:
    if isinstance(item, LeftOut):
        return {"left out": item.reason}
    at = item.temperature_c
    told = {
        "kind": item.kind, "filter": item.filter or "", "exposure": f"{item.exposure_s:g} s",
        "middle": item.mid_utc.isoformat(" ", "milliseconds") if item.mid_utc else "",
        "night": item.night, "temperature": "" if at is None else f"{at:g} °C".replace("-", "−"),
        "setting": item.setting, "camera": item.camera or "",
    }  # fmt: skip
    if item.facts.ra_deg and item.facts.dec_deg:
        told["position"] = f"{item.facts.ra_deg.value:.4f}° {item.facts.dec_deg.value:+.4f}°"
    return told


def _longitude_of(raws: Sequence[RawFile]) -> float:
    """The longitude by which nights are told where the site is unknown."""
    times = [
        raw.facts.time_utc.value
        for raw in raws
        if raw.facts and raw.facts.time_utc and raw.facts.kind
        and raw.facts.kind.value == "exposure"
    ]  # fmt: skip
    return longitude_by_pause(
        np.array([t.hour + t.minute / 60.0 + t.second / 3600.0 for t in times])
    )


def _site_from_headers(plan: Plan, raws: Sequence[RawFile]) -> tuple[Plan, Remark]:
    for raw in raws:
        if raw.facts is None or not raw.facts.latitude_deg or not raw.facts.longitude_deg:
            continue
        latitude, longitude = raw.facts.latitude_deg, raw.facts.longitude_deg
        height = raw.facts.elevation_m.value if raw.facts.elevation_m else 0.0
        words = f"{latitude.keyword}, {longitude.keyword}"
        remark = Remark(
            "intake",
            f"the site is not given: taken from the headers ({words})",
            matters="nothing, if the headers are right",
            remedy="check it in Intake, under Site",
        )
        return replace(plan, site=Site(latitude.value, longitude.value, height)), remark
    remark = Remark(
        "intake",
        "the site is not given: airmass and scintillation are unknown, "
        "BJD is for the centre of the Earth (within 0.022 s)",
        matters="times to 0.02 s; uncertainties lack scintillation",
        remedy=_GIVE_SITE,
    )
    return plan, remark


def _target_from_headers(plan: Plan, night: SortedNight) -> Plan:
    """Where the telescope pointed, and at what, until the plan says what the target is."""
    if plan.target_name or plan.target_ra_deg is not None:
        return plan
    for frame in night.exposures:
        facts = frame.facts
        if facts.ra_deg and facts.dec_deg:
            return replace(
                plan, target_name=facts.object_name.value if facts.object_name else None,
                target_ra_deg=facts.ra_deg.value, target_dec_deg=facts.dec_deg.value,
                target_sure=False,
            )  # fmt: skip
    named = next((f.facts.object_name for f in night.exposures if f.facts.object_name), None)
    return replace(plan, target_name=named.value if named else None, target_sure=False)
