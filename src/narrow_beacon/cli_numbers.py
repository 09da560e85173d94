"""Numbers on the command line: finite ones, within bounds."""

from __future__ import annotations

import math
from typing import Any

import click


class Number(click.FloatRange):
    """A number; “nan” passes every comparison, and with it every bound of click's own."""

    name = "number"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The number that is meant."""
        number = float(super().convert(value, param, ctx))
        if not math.isfinite(number):
            self.fail(f"{value} is no number that can be used.", param, ctx)
        return number
