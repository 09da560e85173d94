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
