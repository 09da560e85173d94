"""Where an exposure is on the sky: projection, patterns, solving, fitting."""
