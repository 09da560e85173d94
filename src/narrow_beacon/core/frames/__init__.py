"""Files of a night: read FITS, interpret headers, sort what was given."""
