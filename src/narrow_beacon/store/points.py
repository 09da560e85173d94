"""What a campaign asks of its points."""

from __future__ import annotations

from narrow_beacon.core.curve.points import AS_MEASURED, PointsWish
from narrow_beacon.store.models import Campaign


def points_of(campaign: Campaign) -> PointsWish:
    """The rules in force."""
    said = campaign.points
    if not said:
        return AS_MEASURED
    return PointsWish(
        said["most_uncertainty_mag"], said["check_off_sigma"], tuple(said["without"]),
        tuple(said["take_out"]), said["nights_alike"],
    )  # fmt: skip
