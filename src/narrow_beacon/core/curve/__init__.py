"""What the stars did: time, airmass, zero points, comparison stars, series."""
