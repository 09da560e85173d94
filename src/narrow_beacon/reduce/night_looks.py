"""What a night's exposures look like, told without a catalogue: the reference among them, how the
others lie on it, and what spoils them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.match import Match, Matcher
from narrow_beacon.core.stars.quality import reference_score
from narrow_beacon.plan import Vetting
from narrow_beacon.reduce.context import ExposureJob
from narrow_beacon.reduce.looking import KEPT_STARS, Looked, StarList
from narrow_beacon.reduce.vet import (
    WRONG_FIELD,
    Lights,
    Moments,
    evidence_of,
    lights_of,
    spoiled_looks,
)

_LIGHT_STARS, _LIGHT_SNR, _SURE_SNR = 150, 12.0, 35.0
_LEAST_SEEN = 10.0
"""Signal to noise from which on a star that is not there is not hidden in the noise alone."""
_NEAR_PX = 2.5
_OTHER_KITS = (0.2, 5.0)
"""Scales of other kits' pixels in the reference's, where neither is known."""
_CANDIDATES = 3
_MOST_MATCH = 0.5
_MORE_STARS = 1.1
_FOREIGN_STARS = 15
"""With so many stars an exposure that matches nothing shows another field."""


@dataclass(frozen=True)
class Reference:
    """The exposure that others are matched to, by its index, and why."""

    index: int
    words: str
    given: bool = False
    """Whether it was not chosen by what exposures look like."""


@dataclass(frozen=True)
class NightLooks:
    """What is known of exposures that were looked at, by index: how they lie on the reference, or
    why not; what speaks against them; what shows of it.
    """

    reference: Reference | None
    matches: Mapping[int, Match] = field(default_factory=dict)
    unmatched: Mapping[int, str] = field(default_factory=dict)
    reasons: Mapping[int, str] = field(default_factory=dict)
    evidence: Mapping[int, Mapping[str, object]] = field(default_factory=dict)


def judge_looks(
    jobs: Sequence[ExposureJob],
    looked: Mapping[int, Looked],
    moments: Moments,
    vetting: Vetting,
    wanted: int | None = None,
) -> NightLooks:
    """Match exposures, in order of time, to a reference and judge them by their looks.

    ``moments`` are those of all exposures, by index; ``wanted`` is the reference where it is
    given.
    """
    usable = {
        job.index: own
        for job in jobs
        if (own := looked.get(job.index)) and own.stars is not None and not own.trouble
    }
    scores = _scores(jobs, usable)
    spoiled: set[int] = set()
    while True:
        looks = _judged(jobs, usable, _fair(scores, spoiled), moments, vetting, wanted)
        chosen = looks.reference.index if looks.reference else None
        if chosen is None or chosen == wanted or chosen not in looks.reasons:
            return looks
        if len(spoiled) >= _CANDIDATES:
            return looks
        spoiled.add(chosen)


def unmatched_words(problem: str, stars: int) -> str:
    """Why an exposure that matches no other is put forward: with stars enough it shows another
    field.
    """
    return f"{WRONG_FIELD if stars >= _FOREIGN_STARS else 'unmatched'}: {problem}"


def match_to_json(looks: NightLooks, index: int, names: Mapping[int, int]) -> dict[str, Any] | None:
    """How an exposure lies on the reference, as plain values; ``names`` stand for indices. None
    where it was not compared.
    """
    if looks.reference is None:
        return None
    to = {"to": names[looks.reference.index]}
    match = looks.matches.get(index)
    if match is None:
        words = looks.unmatched.get(index)
        return {**to, "problem": words} if words else None
    return {
        **to, "plane": list(match.plane), "matched": match.matched,
        "residual_px": match.residual_px, "turn_deg": match.turn_deg, "mirrored": match.mirrored,
        "false_log10": match.false_log10,
    }  # fmt: skip


def _scores(jobs: Sequence[ExposureJob], usable: Mapping[int, Looked]) -> dict[int, float]:
    """How good each exposure would serve as reference; more stars than usual don't help, since
    they may be none.
    """
    counts: dict[str, list[int]] = defaultdict(list)
    qualities = {i: own.quality for i, own in usable.items() if own.quality}
    for job in jobs:
        if job.index in qualities:
            counts[job.group].append(qualities[job.index].stars)
    return {
        job.index: reference_score(
            qualities[job.index], int(_MORE_STARS * np.median(counts[job.group]))
        )
        for job in jobs
        if job.index in qualities
    }


def _fair(scores: Mapping[int, float], spoiled: Set[int]) -> dict[int, float]:
    """Scores without those of spoiled exposures, as long as others are left."""
    fair = {index: score for index, score in scores.items() if index not in spoiled}
    return fair or dict(scores)


def _judged(
    jobs: Sequence[ExposureJob],
    usable: Mapping[int, Looked],
    scores: Mapping[int, float],
    moments: Moments,
    vetting: Vetting,
    wanted: int | None,
) -> NightLooks:
    reference, matches, unmatched = _best_reference(jobs, usable, scores, wanted)
    reasons: dict[int, str] = {}
    evidence: dict[int, Mapping[str, object]] = {}
    groups: dict[str, list[ExposureJob]] = defaultdict(list)
    for job in jobs:
        if job.index in usable:
            groups[job.group].append(job)
    for members in groups.values():
        indices = [job.index for job in members]
        times = moments.take(indices)
        lights = _lights(members, usable, matches, reference, times.airmass)
        qualities = [q for i in indices if (q := usable[i].quality)]
        reasons |= spoiled_looks(indices, qualities, lights, times, vetting.rules)
        for at, index in enumerate(indices):
            evidence[index] = evidence_of(lights, at)
    for index, words in unmatched.items():
        quality = usable[index].quality
        said = unmatched_words(words, quality.stars if quality else 0)
        reasons.setdefault(index, said)
    return NightLooks(reference, matches, unmatched, reasons, evidence)


def _best_reference(
    jobs: Sequence[ExposureJob],
    usable: Mapping[int, Looked],
    scores: Mapping[int, float],
    wanted: int | None,
) -> tuple[Reference | None, dict[int, Match], dict[int, str]]:
    """The exposure with the best score to which most of the others can be matched."""
    order = sorted(scores, key=lambda index: (-scores[index], index))
    best: tuple[Reference | None, dict[int, Match], dict[int, str]] = (None, {}, {})
    if wanted in scores:
        order = [wanted]  # type: ignore[list-item]
    for _ in range(_CANDIDATES):
        candidate = next((index for index in order if index not in best[1]), None)
        if candidate is None:
            break
        matches, unmatched = _match_all(jobs, usable, candidate)
        if best[0] is None or len(matches) > len(best[1]):
            given = candidate == wanted
            words = (
                "chosen by the observer"
                if given
                else _score_words(usable[candidate], scores, candidate)
            )
            best = (Reference(candidate, words, given), matches, unmatched)
        if len(best[1]) >= _MOST_MATCH * len(usable):
            break
    return best


def _score_words(own: Looked, scores: Mapping[int, float], index: int) -> str:
    quality = own.quality
    assert quality is not None
    usual = float(np.median(list(scores.values())))
    return (
        f"{quality.stars} stars over width² × elongation ({quality.fwhm_px:.1f} px, "
        f"{quality.elongation:.2f}): {scores[index] / max(usual, 1e-9):.1f}"
        " times the usual exposure"
    )


def _match_all(
    jobs: Sequence[ExposureJob], usable: Mapping[int, Looked], reference: int
) -> tuple[dict[int, Match], dict[int, str]]:
    frames = {job.index: job.frame for job in jobs}
    stars = usable[reference].stars
    assert stars is not None
    matcher = Matcher(stars.x_px, stars.y_px)
    matches: dict[int, Match] = {}
    unmatched: dict[int, str] = {}
    last: dict[str, Match] = {}
    for job in jobs:
        if job.index not in usable:
            continue
        own = usable[job.index].stars
        assert own is not None
        scales = {} if job.frame.kit == frames[reference].kit else {"scales": _OTHER_KITS}
        try:
            found = matcher.match(
                own.x_px,
                own.y_px,
                job.frame.shape,
                own.error_px,
                last=last.get(job.frame.kit),
                **scales,
            )
        except NotPlacedError as error:
            unmatched[job.index] = (
                f"its {own.x_px.size} stars match none of the reference’s; {error}"
            )
            continue
        matches[job.index] = last[job.frame.kit] = found
    return matches, unmatched


def _lights(
    jobs: Sequence[ExposureJob],
    usable: Mapping[int, Looked],
    matches: Mapping[int, Match],
    reference: Reference | None,
    airmass: Floats,
) -> Lights:
    """The light of the reference's bright stars on exposures of one group; none where one should be
    and is not.
    """
    shape = jobs[0].frame.shape
    stars = usable[reference.index].stars if reference else None
    bright = np.flatnonzero(stars.snr > _LIGHT_SNR)[:_LIGHT_STARS] if stars else np.empty(0, int)
    light = np.full((len(jobs), max(bright.size, 1)), np.nan)
    places = []
    for at, job in enumerate(jobs):
        match, own = matches.get(job.index), usable[job.index].stars
        x = y = np.full(light.shape[1], np.nan)
        if match and stars and own and reference and bright.size:
            x, y = match.from_reference(stars.x_px[bright], stars.y_px[bright])
            light[at] = _light_at(x, y, own, job.frame.shape)
            seen = stars.snr[bright] * _depth(usable[job.index], usable[reference.index])
            light[at][(light[at] == 0) & (seen < _LEAST_SEEN)] = np.nan
        places.append((np.nan_to_num(x), np.nan_to_num(y)))
    sure = stars.snr[bright] > _SURE_SNR if stars is not None else np.zeros(0, bool)
    if sure.size != light.shape[1]:
        sure = np.zeros(light.shape[1], bool)
    return lights_of(light, sure, places, shape, airmass)


def _depth(own: Looked, reference: Looked) -> float:
    """A star's signal to noise on an exposure over that on the reference, by their noise and star
    widths, were both taken through the same air for the same time.
    """
    one, other = own.quality, reference.quality
    assert one is not None
    assert other is not None
    return float(other.noise_adu * other.fwhm_px / (one.noise_adu * one.fwhm_px))


def _light_at(x: Floats, y: Floats, own: StarList, shape: tuple[int, int]) -> Floats:
    height, width = shape
    inside = (x > _NEAR_PX) & (y > _NEAR_PX) & (x < width - _NEAR_PX) & (y < height - _NEAR_PX)
    away = np.hypot(own.x_px[None, :] - x[:, None], own.y_px[None, :] - y[:, None])
    nearest = np.argmin(away, axis=1)
    found = away[np.arange(x.size), nearest] < _NEAR_PX
    light = np.where(found, own.light[nearest], 0.0)
    # The list ends somewhere: what would be fainter than its last star may only not be on it.
    if own.x_px.size >= KEPT_STARS:
        light = np.where(found, light, np.nan)
    return np.where(inside, light, np.nan)
