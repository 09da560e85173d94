"""Files to hand in: light curve, exposures, census, layout, figure, provenance."""
