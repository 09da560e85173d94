"""Narrow Beacon: from a night of raw exposures to a variable star's light curve and report."""

__version__ = "0.6.0"
