"""Plate solutions as plain values and back, exact to the last bit."""

from __future__ import annotations

from typing import Any

import numpy as np

from narrow_beacon.core.place.solution import Solution


def solution_to_json(solution: Solution) -> dict[str, Any]:
    """A plate solution as plain values, exact to the last bit."""
    return {
        "ra0_deg": solution.ra0_deg,
        "dec0_deg": solution.dec0_deg,
        "x0_px": solution.x0_px,
        "y0_px": solution.y0_px,
        "cd": solution.cd.tolist(),
        "shape": list(solution.shape),
        "sip_order": solution.sip_order,
        "sip_a": solution.sip_a.tolist(),
        "sip_b": solution.sip_b.tolist(),
    }


def solution_from_json(values: dict[str, Any]) -> Solution:
    """The plate solution that ``solution_to_json`` wrote."""
    return Solution(
        values["ra0_deg"],
        values["dec0_deg"],
        values["x0_px"],
        values["y0_px"],
        np.array(values["cd"], float),
        (values["shape"][0], values["shape"][1]),
        values["sip_order"],
        np.array(values["sip_a"], float),
        np.array(values["sip_b"], float),
    )
