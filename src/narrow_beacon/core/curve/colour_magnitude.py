"""The field's stars by colour and magnitude, as they were measured in two filters."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.curve.colour_terms import ColourTerms
from narrow_beacon.core.curve.field_stars import FieldStars

_LEAST_POINTS = 2


@dataclass(frozen=True)
class FilterField:
    """One filter's stars with its terms; ``answers_to`` is the colour of the comparison stars, by
    whose zero points they were measured, NaN where it is not known.
    """

    name: str
    stars: FieldStars
    terms: ColourTerms | None
    answers_to: float


@dataclass(frozen=True)
class ColourMagnitude:
    """Stars (stars) by catalogue row: colour and magnitude, that in the redder filter, with their
    uncertainties in mag; ``transformed`` says whether they are on the standard scale.
    """

    rows: Ints
    colour: Floats
    colour_uncertainty: Floats
    magnitude: Floats
    uncertainty: Floats
    transformed: bool


def colour_magnitude(bluer: FilterField, redder: FilterField) -> ColourMagnitude:
    """Stars that were measured in both filters.

    With both coefficients, M = m + T·(C − C₀) in each, C₀ the comparison stars' colour, and
    C = M₁ − M₂ give C·(1 − T₁ + T₂) = m₁ − m₂ − T₁·C₀₁ + T₂·C₀₂.
    """
    _, one, two = np.intersect1d(bluer.stars.rows, redder.stars.rows, return_indices=True)
    blue, red = bluer.stars.magnitude[one], redder.stars.magnitude[two]
    both = np.isfinite(blue) & np.isfinite(red)
    both &= (bluer.stars.points[one] >= _LEAST_POINTS) & (redder.stars.points[two] >= _LEAST_POINTS)
    one, two, blue, red = one[both], two[both], blue[both], red[both]
    colour, magnitude = blue - red, red
    sigma = np.hypot(bluer.stars.uncertainty_mag[one], redder.stars.uncertainty_mag[two])
    first, second = _both(bluer), _both(redder)
    transformed = first is not None and second is not None
    if first is not None and second is not None:
        whole = 1.0 - first + second
        colour = (blue - red - first * bluer.answers_to + second * redder.answers_to) / whole
        magnitude = red + second * (colour - redder.answers_to)
        sigma = sigma / abs(whole)
    return ColourMagnitude(
        redder.stars.rows[two], colour, sigma, magnitude, redder.stars.uncertainty_mag[two],
        transformed,
    )  # fmt: skip


def _both(one: FilterField) -> float | None:
    """A filter's coefficient, where it and the colour that its zero points answer to are known."""
    transform = one.terms.transform if one.terms else None
    return None if transform is None or not np.isfinite(one.answers_to) else transform.value
