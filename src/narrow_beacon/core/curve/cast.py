"""Who plays which part: comparison stars and the check star, named or chosen, with reasons."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.curve.steadiness import Steadiness, judge_steadiness
from narrow_beacon.core.curve.zero_points import ensemble_of
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag

MOST_COMPARISON = 10
_CANDIDATES = 16
_LEAST_PRESENT = 0.9
_BRIGHTER_MAG, _FAINTER_MAG = 2.5, 1.5
_MOST_CATALOGUE_UNCERTAINTY = 0.1
_OFF_LINE_SIGMA = 4.5
_OFF_LINE_MAG = 0.04
_MOST_NEIGHBOUR_MAG, _MOST_CHANGE_MAG = 0.02, 0.003
_CHECKS_TRIED = 5
_MOST_WANDER_MAG, _OF_WANDER = 0.03, 0.5
"""More than the first no flat leaves: stars that are farther off vary. So much of what stars
usually wander by is the error that it means for each: one that does so 2.5 times as much varies."""
_ENOUGH_LISTED = 4
"""Three comparison stars and a check star."""


@dataclass(frozen=True)
class Dropped:
    """A comparison star that is not used, and why."""

    name: str
    reason: str


@dataclass(frozen=True)
class Candidate:
    """A star that can be a comparison star, and what speaks for it."""

    row: int
    words: str


@dataclass(frozen=True)
class Cast:
    """Catalogue rows of the roles in one filter, with what was dropped and why each was taken."""

    target: int
    comparison: tuple[int, ...]
    checks: tuple[int, ...] = ()
    """Check stars; the first is the one that reports name."""
    dropped: tuple[Dropped, ...] = ()
    reasons: tuple[tuple[str, str], ...] = ()
    """(star, why) for every comparison and check star that the program chose."""
    wander_mag: float = 0.0
    """What most stars sit off the rest of the night by for a while, where that is more than their
    noise: no reason to drop any of them."""

    @property
    def rows(self) -> list[int]:
        """Every star with a part, in order of the catalogue."""
        return sorted({self.target, *self.comparison, *self.checks})

    @property
    def check(self) -> int | None:
        """The first check star."""
        return self.checks[0] if self.checks else None


def colour_of(stars: StarTable) -> Floats | None:
    """The catalogue's B − V, or the first pair of bands in order of wavelength; None without."""
    order = ("U", "u", "B", "g", "V", "BP", "G", "r", "R", "i", "I", "RP", "z")
    bands = [name for name in order if name in stars.bands]
    if "B" in bands and "V" in bands:
        bands = ["B", "V"]
    if len(bands) < 2:
        return None
    return stars.bands[bands[0]].magnitude - stars.bands[bands[1]].magnitude


def settle_cast(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    target: int,
    named_comparison: Sequence[int],
    named_checks: Sequence[int],
    never: Sequence[int] = (),
) -> tuple[Cast, Ensemble]:
    """The cast of one filter and its ensemble at a radius.

    Named comparison stars are used unless they vary, sit off the catalogue's line, are spoiled
    on many exposures or have no magnitude; without names the best candidates are taken. A named
    comparison star never becomes the check star, and none of ``never`` is chosen for either.
    """
    dropped: list[Dropped] = []
    reasons: list[tuple[str, str]] = []
    chosen_by_program = not named_comparison
    if chosen_by_program:
        taken = {target, *named_checks, *never}
        ranked = rank_candidates(census, step, stars, band, target, taken)
        rows = [candidate.row for candidate in ranked]
        reasons += [(stars.names[candidate.row], candidate.words) for candidate in ranked]
    else:
        rows = _usable_names(census, step, stars, band, named_comparison, dropped)
    if not rows:
        raise NotMeasurableError(_no_comparison(stars, band, chosen_by_program, dropped))
    rows, ensemble, wander_mag = _without_doubtful(census, step, stars, band, rows, dropped)
    checks = tuple(named_checks)
    if not checks and chosen_by_program and len(rows) > 3:
        check = _choose_check(stars, band, target, rows)
        verdict = steadiness_of(ensemble, wander_mag)[rows.index(check)]
        rows = [row for row in rows if row != check]
        reasons.append((stars.names[check], _check_words(verdict)))
        checks = (check,)
    elif not checks:
        named = (*named_comparison, *never)
        other, words = _other_check(census, step, stars, band, target, named, rows, wander_mag)
        if other is not None:
            reasons.append((stars.names[other], words))
            checks = (other,)
    rows = rows[:MOST_COMPARISON] if chosen_by_program else rows
    ensemble = ensemble_of(census, step, stars, band, rows)
    keep = {stars.names[row] for row in (*rows, *checks)}
    said = tuple(reason for reason in reasons if reason[0] in keep)
    return Cast(target, tuple(rows), checks, tuple(dropped), said, wander_mag), ensemble


def rank_candidates(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    target: int,
    taken: set[int],
) -> list[Candidate]:
    """The stars that serve best as comparison stars, best first, without those ``taken``.

    Like brightness and colour as the target, a sure magnitude, clean on most exposures, not known
    to vary; where a sequence has enough of these, they are its stars alone.
    """
    of = stars.bands[band]
    m, sigma = of.magnitude[census.rows], of.uncertainty[census.rows]
    target_mag = _target_magnitude(census, step, stars, band, target)
    fainter = m - target_mag
    present = census.usable(step).mean(axis=0)
    _, others = census.doubts(step)
    beside, wanders = np.abs(np.median(others, axis=0)), np.std(others, axis=0)
    contaminated = (beside > _MOST_NEIGHBOUR_MAG) | (wanders > _MOST_CHANGE_MAG)
    fits = (
        np.isfinite(m)
        & (sigma <= _MOST_CATALOGUE_UNCERTAINTY)
        & (present >= _LEAST_PRESENT)
        & ~contaminated
        & ~stars.known_variable[census.rows]
        & ~np.isin(census.rows, list(taken))
    )
    near = fits & (fainter > -_BRIGHTER_MAG) & (fainter < _FAINTER_MAG)
    if near.sum() < 4:
        near = fits
    colour = colour_of(stars)
    unlike = np.zeros(m.size)
    if colour is not None and np.isfinite(colour[target]):
        unlike = np.nan_to_num(np.abs(colour[census.rows] - colour[target]), nan=1.0)
    # Like brightness, like colour and a sure magnitude; fainter stars cost more than brighter.
    cost = np.where(fainter > 0, 1.5 * fainter, -0.5 * fainter) + 2.0 * unlike + 10.0 * sigma
    order = [i for i in np.argsort(np.where(near, cost, np.inf), kind="stable") if near[i]]
    listed = np.zeros(m.size, bool) if stars.listed is None else stars.listed[census.rows]
    if (near & listed).sum() >= _ENOUGH_LISTED:
        order = [i for i in order if listed[i]]
    ranked = []
    for i in order[:_CANDIDATES]:
        words = "of the sequence, " if listed[i] else ""
        words += f"{abs(fainter[i]):.1f} mag {'fainter' if fainter[i] > 0 else 'brighter'}"
        if colour is not None:
            words += f", colour within {unlike[i]:.2f}"
        words += f", magnitude known to {sigma[i]:.3f}, clean on {present[i]:.0%} of the exposures"
        ranked.append(Candidate(int(census.rows[i]), words))
    return ranked


def _target_magnitude(
    census: FilterCensus, step: int, stars: StarTable, band: str, target: int
) -> float:
    """The target's usual magnitude, from the exposures themselves through the stars' mean."""
    magnitude, _ = census.magnitudes(step)
    known = stars.bands[band].magnitude[census.rows]
    column = census.column(target)
    delta = known[None, :] - magnitude
    usable = census.usable(step) & np.isfinite(delta)
    zero = [
        np.median(delta[e, usable[e]]) if usable[e].any() else np.nan for e in range(len(delta))
    ]
    if column is not None:
        own = magnitude[:, column] + np.array(zero)
        if np.isfinite(own).any():
            return float(np.nanmedian(own))
    return float(stars.bands[band].magnitude[target])


def _usable_names(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    named: Sequence[int],
    dropped: list[Dropped],
) -> list[int]:
    rows = []
    usable = census.usable(step)
    flags = census.flags(step)
    for row in named:
        name = stars.names[row]
        column = census.column(row)
        if column is None:
            dropped.append(Dropped(name, "not on any exposure"))
        elif not np.isfinite(stars.bands[band].magnitude[row]):
            dropped.append(Dropped(name, f"the catalogue gives it no {band} magnitude"))
        elif usable[:, column].mean() < 0.5:
            spoiled = flags[:, column] & int(StarFlag.SATURATED)
            why = "saturated" if (spoiled > 0).mean() > 0.3 else "spoiled or missing"
            share = 1.0 - usable[:, column].mean()
            dropped.append(Dropped(name, f"{why} on {share:.0%} of the exposures"))
        else:
            rows.append(row)
    return rows


def _without_doubtful(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    rows: list[int],
    dropped: list[Dropped],
) -> tuple[list[int], Ensemble, float]:
    """The stars that neither vary nor sit off the catalogue's line, and by how much they wander.

    Where most would be dropped since they sit off the rest of the night for a while, by little,
    that is the night's doing and not theirs.
    """
    first: list[Dropped] = []
    left, ensemble, sizes = _drop_doubtful(census, step, stars, band, rows, first, 0.0)
    wander_mag = _usual_wander(sizes, len(rows))
    if not wander_mag:
        dropped += first
        return left, ensemble, 0.0
    left, ensemble, _ = _drop_doubtful(census, step, stars, band, rows, dropped, wander_mag)
    return left, ensemble, wander_mag


def _drop_doubtful(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    rows: list[int],
    dropped: list[Dropped],
    wander_mag: float,
) -> tuple[list[int], Ensemble, list[float]]:
    """Drop stars that vary or sit off the catalogue's line, the worst first, one at a time; by how
    much those sat off the rest of the night that were dropped for nothing else.
    """
    sizes: list[float] = []
    while True:
        ensemble = ensemble_of(census, step, stars, band, rows)
        if len(rows) < 3:
            return rows, ensemble, sizes
        verdicts = steadiness_of(ensemble, wander_mag)
        worst = int(np.argmax([v.reduced_chi2 if v.varies else 0.0 for v in verdicts]))
        if verdicts[worst].varies:
            v = verdicts[worst]
            if v.hangs_together and not v.scatters:
                sizes.append(v.coherent_mag)
            dropped.append(
                Dropped(
                    stars.names[rows[worst]],
                    f"varies: {_how(v)} in {band}",
                )
            )
            rows = rows[:worst] + rows[worst + 1 :]
            continue
        off = _off_line(stars, band, rows, ensemble)
        if off is None or len(rows) < 4:
            return rows, ensemble, sizes
        dropped.append(
            Dropped(
                stars.names[rows[off]],
                f"its {band} magnitude sits {ensemble.star_offset_mag[off]:+.3f} mag off the line "
                "of the other stars".replace("-", "−"),
            )
        )
        rows = rows[:off] + rows[off + 1 :]


def _usual_wander(sizes: Sequence[float], stars: int) -> float:
    """What most of so many stars sit off the rest of the night by, of those that do nothing else;
    0 where most don't, or by more than a night does that.
    """
    wander_mag = float(np.median(sizes)) if 2 * len(sizes) > stars else 0.0
    return wander_mag if wander_mag <= _MOST_WANDER_MAG else 0.0


def judge_together(series: Sequence[tuple[Floats, Floats]]) -> list[Steadiness]:
    """Steadiness of stars from their magnitudes and uncertainties, where what most of them wander
    by is none of theirs.
    """
    verdicts = [judge_steadiness(*one) for one in series]
    sizes = [v.coherent_mag for v in verdicts if v.hangs_together and not v.scatters]
    wander_mag = _usual_wander(sizes, len(verdicts))
    if not wander_mag:
        return verdicts
    return [judge_steadiness(*one, _OF_WANDER * wander_mag) for one in series]


def _how(verdict: Steadiness) -> str:
    if verdict.hangs_together:
        return (
            f"sits {verdict.coherent_mag:.3f} mag off the rest of the night for a while "
            f"({verdict.coherent_sigma:.0f} times its uncertainty)"
        )
    times = float(np.sqrt(verdict.reduced_chi2))
    return f"scatters by {verdict.scatter_mag:.3f} mag, {times:.1f} times its uncertainty,"


def steadiness_of(ensemble: Ensemble, wander_mag: float = 0.0) -> list[Steadiness]:
    """Each comparison star judged against the zero points of the others, where most wander by so
    much.

    The scatter common to all of them is first taken as noise, by the median of their excesses,
    so that one star that varies does not make the others look restless.
    """
    rows = range(ensemble.residual_mag.shape[1])
    zero = ensemble.zero_point_uncertainty[:, None]
    own = np.sqrt(ensemble.noise_mag**2 + zero**2)
    first = [judge_steadiness(ensemble.residual_mag[:, i], own[:, i]) for i in rows]
    common = float(np.median([verdict.excess_mag for verdict in first]))
    widened = np.sqrt(own**2 + common**2)
    each = _OF_WANDER * wander_mag
    return [judge_steadiness(ensemble.residual_mag[:, i], widened[:, i], each) for i in rows]


def _off_line(stars: StarTable, band: str, rows: Sequence[int], ensemble: Ensemble) -> int | None:
    offset = ensemble.star_offset_mag - np.median(ensemble.star_offset_mag)
    spread = 1.4826 * float(np.median(np.abs(offset)))
    sigma = np.sqrt(stars.bands[band].uncertainty[list(rows)] ** 2 + spread**2 + 1e-6)
    significance = np.abs(offset) / sigma
    worst = int(np.argmax(significance))
    if significance[worst] > _OFF_LINE_SIGMA and abs(offset[worst]) > _OFF_LINE_MAG:
        return worst
    return None


def _check_words(verdict: Steadiness) -> str:
    steady = "steady" if not verdict.cannot_tell else "too few points to tell if it is steady"
    return f"check star: of like brightness, {steady}"


def _other_check(
    census: FilterCensus, step: int, stars: StarTable, band: str, target: int,
    named: Sequence[int], rows: Sequence[int], wander_mag: float,
) -> tuple[int | None, str]:  # fmt: skip
    """A check star beside comparison stars that are given: the best of the other stars that is
    steady against them.
    """
    taken = {target, *named, *rows}
    others = [c.row for c in rank_candidates(census, step, stars, band, target, taken)]
    by_light = sorted(others, key=lambda row: _unlike(stars, band, target, others, row))
    for row in by_light[:_CHECKS_TRIED]:
        ensemble = ensemble_of(census, step, stars, band, [*rows, row])
        verdict = steadiness_of(ensemble, wander_mag)[-1]
        if not verdict.varies:
            return row, _check_words(verdict)
    return None, ""


def _unlike(stars: StarTable, band: str, target: int, rows: Sequence[int], row: int) -> float:
    """How far a star's magnitude is from the target's, or from the middle of ``rows``."""
    m = stars.bands[band].magnitude
    wanted = m[target] if np.isfinite(m[target]) else np.nanmedian(m[list(rows)])
    return abs(float(m[row]) - float(wanted))


def _choose_check(stars: StarTable, band: str, target: int, rows: Sequence[int]) -> int:
    return min(rows, key=lambda row: _unlike(stars, band, target, rows, row))


def _no_comparison(
    stars: StarTable, band: str, by_program: bool, dropped: Sequence[Dropped]
) -> str:
    if by_program:
        return (
            f"no star in the field can be a comparison star in {band}: none has a known magnitude, "
            "is clean on most exposures and not known to vary"
        )
    reasons = "; ".join(f"{item.name}: {item.reason}" for item in dropped)
    return f"none of the named comparison stars can be used in {band}: {reasons}"
