"""Colour coefficients that the observatory keeps with its kits."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.colour_terms import Coefficient
from narrow_beacon.store.models import KeptTerm


def kept_terms(session: Session, kit: str, filter_name: str, index: str) -> Sequence[KeptTerm]:
    """What is kept of a kit's filter against a colour index, the latest first."""
    return session.scalars(
        select(KeptTerm)
        .where(KeptTerm.kit == kit, KeptTerm.filter == filter_name, KeptTerm.colour_index == index)
        .order_by(KeptTerm.kept.desc(), KeptTerm.id.desc())
    ).all()


def keep_term(session: Session, term: KeptTerm) -> None:
    """Keep a coefficient, in place of what the same campaign gave for it before."""
    session.execute(
        delete(KeptTerm).where(
            KeptTerm.kit == term.kit, KeptTerm.filter == term.filter,
            KeptTerm.colour_index == term.colour_index, KeptTerm.campaign == term.campaign,
        )
    )  # fmt: skip
    session.add(term)


def mean_of(terms: Sequence[KeptTerm]) -> Coefficient | None:
    """All of a kit's fields and nights together: the weighted mean, its uncertainty widened where
    they differ by more than theirs; None of fewer than two.
    """
    if len(terms) < 2:
        return None
    values = np.array([term.coefficient for term in terms])
    weight = np.array([max(term.uncertainty, 1e-4) for term in terms]) ** -2.0
    mean = float(np.sum(weight * values) / weight.sum())
    chi2 = float(np.sum(weight * (values - mean) ** 2)) / (len(terms) - 1)
    sigma = float(np.sqrt(max(chi2, 1.0) / weight.sum()))
    return Coefficient(mean, sigma, sum(term.stars for term in terms))
