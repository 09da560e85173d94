"""A star catalogue as a file that reads back to the last digit."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from narrow_beacon.core.catalogue.columns import UNCERTAINTY
from narrow_beacon.core.catalogue.table import StarTable


def write_catalogue(stars: StarTable, path: Path) -> dict[str, str]:
    """Write stars as ECSV and return what the columns mean, as a plan says it; the epoch of the
    positions is the plan's to say, too.
    """
    from astropy.table import Table

    table = Table(
        {
            "name": list(stars.names), "ra": stars.ra_deg, "dec": stars.dec_deg,
            "pm_ra": stars.pm_ra_mas_yr, "pm_dec": stars.pm_dec_mas_yr,
            "variable": np.where(stars.known_variable, "yes", "no"),
        },
        units={"ra": "deg", "dec": "deg", "pm_ra": "mas/yr", "pm_dec": "mas/yr"},
        meta={"epoch": stars.epoch_yr},
    )  # fmt: skip
    if stars.parallax_mas is not None:
        table["parallax"] = stars.parallax_mas
        table["parallax"].unit = "mas"
    if stars.notes is not None:
        table["kind"] = [note or "--" for note in stars.notes]
    said = {name: name for name in table.colnames}
    for number, (band, of) in enumerate(stars.bands.items()):
        # Bands are called whatever they are: these columns are named by number.
        for name, meaning, values in (
            (f"magnitude_{number}", band, of.magnitude),
            (f"uncertainty_{number}", band + UNCERTAINTY, of.uncertainty),
        ):
            table[name] = values
            table[name].unit = "mag"
            said[meaning] = name
    table.write(path, format="ascii.ecsv", overwrite=True)
    return said
