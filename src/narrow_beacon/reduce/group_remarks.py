"""What is said of groups, a night in one filter each, by a few of their exposures."""

from __future__ import annotations

from narrow_beacon.core.correct.dark_place import Misplaced
from narrow_beacon.core.measure.census import UNDERSAMPLED_PX
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.stars.detect import WIDE_PX
from narrow_beacon.reduce.prepare import Prepared, by_group


def group_remarks(ready: Prepared) -> list[Remark]:
    """Words on what the groups' star widths and radii bring."""
    remarks = []
    members = by_group(ready.jobs)
    for name, group in ready.context.groups.items():
        frame = members[name][0].frame
        step = frame.source.step
        if group.probed.misplaced:
            remarks.append(_misplaced_remark(group.probed.misplaced, name))
        if frame.channel and group.fwhm_px < UNDERSAMPLED_PX:
            remarks.append(
                Remark(
                    "measure",
                    f"stars are {step * group.fwhm_px:.1f} px wide, {group.fwhm_px:.1f} of the "
                    f"{frame.channel} pixels, which are {step} apart: too narrow to cover enough "
                    "of them",
                    name,
                    "which of their light is seen changes from exposure to exposure; the "
                    "uncertainties hold it",
                    f"defocus to {2 * UNDERSAMPLED_PX:.0f} px or more",
                )
            )
        elif group.fwhm_px < UNDERSAMPLED_PX:
            remarks.append(
                Remark(
                    "measure",
                    f"stars are only {group.fwhm_px:.1f} px wide: undersampled",
                    name,
                    "where in its pixel a star falls changes its measured light; the uncertainties "
                    "hold it, and cosmic rays are hard to tell from stars",
                    "defocus a little, or use a larger radius",
                )
            )
        if group.fwhm_px >= WIDE_PX:
            remarks.append(
                Remark(
                    "measure",
                    f"stars are far out of focus: as much light in their half as stars of "
                    f"{group.fwhm_px:.0f} px",
                    name,
                    "cosmic rays show in the growth of light alone, and neighbours run together",
                    "nothing, if it was on purpose",
                )
            )
        unit = 1.0 / step if ready.plan.annulus_in_pixels else group.fwhm_px
        asked = ready.plan.annulus[0] * unit
        if group.annulus_px[0] > asked + 0.01:
            remarks.append(
                Remark(
                    "measure",
                    f"the sky ring was moved out to {step * group.annulus_px[0]:.1f} px: the "
                    "largest apertures would reach into it",
                    name,
                    "nothing, but for a larger gradient of the sky",
                    "take a smaller radius, or a ring farther out",
                )
            )
    return remarks


def _misplaced_remark(dark: Misplaced, group: str) -> Remark:
    words = f"of the light of the dark's {dark.count} hot pixels the exposures show "
    words += f"{max(dark.shows, 0.0):.0%}"
    if dark.turned:
        return Remark(
            "correct", f"{words}; if it were {dark.turned} they would be theirs", group,
            "hot pixels stay, and the flat's shading and dust fall on wrong places: up to some "
            "hundredths of a magnitude",
            "take darks and flats with the program that takes the exposures, or set both to write "
            "their rows the same way round",
        )  # fmt: skip
    return Remark(
        "correct", f"{words}: the sensor was colder then, or the dark is another camera's", group,
        "hot pixels stay or are overdone; a flat of another camera is wrong everywhere",
        "take darks with this camera at this temperature, or choose another in Correct",
    )  # fmt: skip
