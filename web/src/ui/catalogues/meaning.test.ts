import { describe, expect, it } from "vitest";
import { standing } from "./Catalogues";
import { choices, meaningOf, withMeaning, wordsOf } from "./meaning";

describe("what the columns of a catalogue mean", () => {
  const proposed = { ra: "RA", dec: "DEC", V: "Vmag", V_uncertainty: "e_V" };

  it("is told in words", () => {
    expect(["ra", "V", "V_uncertainty"].map(wordsOf)).toEqual([
      "right ascension",
      "magnitude V",
      "uncertainty of V",
    ]);
    expect(meaningOf("e_V", proposed)).toBe("V_uncertainty");
    expect(meaningOf("other", proposed)).toBe("");
  });

  it("offers a table's own bands first", () => {
    const offered = choices(["ra", "dec"], ["B", "V"], { ...proposed, X: "x" });
    expect(offered.slice(2, 6)).toEqual(["V", "V_uncertainty", "X", "X_uncertainty"]);
    expect(offered).toContain("B_uncertainty");
  });

  it("takes a meaning from the column that had it, and an old one from this column", () => {
    const said = withMeaning({}, proposed, "Vmag", "R");
    expect(said).toEqual({ V: "", R: "Vmag" });
    expect(withMeaning({}, proposed, "other", "ra")).toEqual({ ra: "other" });
    expect(withMeaning({}, proposed, "e_V", "")).toEqual({ V_uncertainty: "" });
  });
});

describe("how a catalogue stands", () => {
  const source = {
    id: 1,
    name: "north",
    role: "stars",
    kind: "file",
    place: "/n.csv",
    columns: {},
    epoch_yr: 2016,
    state: "ready",
    words: "",
    done: 0,
    stars: 5_000_000,
    bands: ["V"],
    megabytes: 331.4,
    anywhere: true,
    kept: 0,
    kept_from: null,
  };

  it("says how many stars it has, or how far it is made", () => {
    expect(standing(source)).toBe(
      "5,000,000 stars · V · epoch 2016 · 331 MB · places exposures anywhere",
    );
    const making = { ...source, state: "making", words: "reading", done: 1200 };
    expect(standing(making)).toBe("being made: reading, 1,200 rows");
    expect(standing({ ...making, words: "finding patterns", done: 40 })).toBe(
      "being made: finding patterns, 40%",
    );
    expect(standing({ ...source, state: "failed", words: "why" })).toBe("why");
  });

  it("says what is kept of a service, and from when", () => {
    const service = { ...source, kind: "service" };
    expect(standing(service)).toBe("service · nothing asked yet");
    expect(standing({ ...service, kept: 4, kept_from: "2026-10-03T12:00:00" })).toBe(
      "service · 4 parts of the sky kept, the oldest from 3 Oct",
    );
  });
});
