"""How bright, and how sure: apertures, sky, noise, the census."""
