export type Role = "target" | "comparison" | "check" | "none";

/** Who plays which part, by row; reports name the first check star. */
export interface Parts {
  target: number;
  comparison: number[];
  checks: number[];
}

/** The cast with one star in another part; a star plays one part only. */
export function withRole(cast: Parts, row: number, role: Role): Parts {
  if (role !== "target" && cast.target === row) return cast;
  const without = (rows: number[]) => rows.filter((other) => other !== row);
  const toggled = (rows: number[]) => (rows.includes(row) ? without(rows) : [...rows, row]);
  const [comparison, checks] = [without(cast.comparison), without(cast.checks)];
  switch (role) {
    case "target":
      return { target: row, comparison, checks };
    case "check":
      return { target: cast.target, comparison, checks: toggled(cast.checks) };
    case "comparison":
      return { target: cast.target, comparison: toggled(cast.comparison), checks };
    case "none":
      return { target: cast.target, comparison, checks };
  }
}

export function roleOf(cast: Parts | null | undefined, row: number): Role {
  if (cast?.target === row) return "target";
  if (cast?.checks.includes(row)) return "check";
  return cast?.comparison.includes(row) ? "comparison" : "none";
}

/** What stands beside a check star: its number only where there are several. */
export const checkLabel = (cast: Parts, row: number) =>
  cast.checks.length > 1 ? `K${cast.checks.indexOf(row) + 1}` : "K";
