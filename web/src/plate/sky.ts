const RAD = Math.PI / 180;

/** Right ascension and declination in degrees of a place on the plane (gnomonic projection). */
export function skyOf(
  eastArcsec: number,
  northArcsec: number,
  ra0: number,
  dec0: number,
): { ra: number; dec: number } {
  const [xi, eta, d0] = [(eastArcsec / 3600) * RAD, (northArcsec / 3600) * RAD, dec0 * RAD];
  const down = Math.cos(d0) - eta * Math.sin(d0);
  const ra = ra0 + Math.atan2(xi, down) / RAD;
  const dec = Math.atan2(Math.sin(d0) + eta * Math.cos(d0), Math.hypot(xi, down)) / RAD;
  return { ra: (ra + 360) % 360, dec };
}

/** Where a position is on the plane that touches the sky at (ra0, dec0), in seconds of arc. */
export function planeOf(
  ra: number,
  dec: number,
  ra0: number,
  dec0: number,
): { east: number; north: number } | null {
  const [a, d, d0] = [(ra - ra0) * RAD, dec * RAD, dec0 * RAD];
  const deep = Math.sin(d0) * Math.sin(d) + Math.cos(d0) * Math.cos(d) * Math.cos(a);
  if (deep <= 0.05) return null;
  return {
    east: ((Math.cos(d) * Math.sin(a)) / deep / RAD) * 3600,
    north:
      ((Math.cos(d0) * Math.sin(d) - Math.sin(d0) * Math.cos(d) * Math.cos(a)) / deep / RAD) * 3600,
  };
}
