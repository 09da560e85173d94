export type Role = "target" | "comparison" | "check" | "none";

/** The cast with one star in another part; a star plays one part only. */
export function withRole(
  cast: { target: number; comparison: number[]; check: number | null },
  row: number,
  role: Role,
): { target: number; comparison: number[]; check: number | null } {
  if (role !== "target" && cast.target === row) return cast;
  const comparison = cast.comparison.filter((other) => other !== row);
  const check = cast.check === row ? null : cast.check;
  switch (role) {
    case "target":
      return { target: row, comparison, check };
    case "check":
      return { target: cast.target, comparison, check: cast.check === row ? null : row };
    case "comparison":
      return cast.comparison.includes(row)
        ? { target: cast.target, comparison, check }
        : { target: cast.target, comparison: [...comparison, row], check };
    case "none":
      return { target: cast.target, comparison, check };
  }
}
