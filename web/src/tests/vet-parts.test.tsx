// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { frameSize, framesOf } from "../film/frames";
import { ExposureLedger } from "../ledger/ExposureLedger";
import { asText, keeps, type LedgerColumn } from "../ledger/table";
import { evidenceOf } from "../plate/evidence";
import { RulesSection } from "../stages/vet/RulesSection";
import { ReferenceSection } from "../stages/vet/ReferenceSection";
import { byTrouble, troubleOf } from "../stages/vet/reasons";
import { useApp } from "../state";
import { Asked } from "../ui/Asked";
import { playedAfter } from "../ui/playing";
import { saveText } from "../ui/save";
import { exposure, vetting } from "./builders";
import { HERE, posted, server, show, tidy } from "./page";

vi.mock("../ui/save", () => ({ saveText: vi.fn() }));

beforeEach(() => useApp.setState({ campaign: 1, beam: 2 }));
afterEach(tidy);

describe("a ledger", () => {
  interface Star {
    name: string;
    width: number | null;
  }
  const columns: LedgerColumn<Star>[] = [
    { key: "name", words: "name", value: (s) => s.name },
    { key: "width", words: "star width", unit: "px", digits: 1, value: (s) => s.width },
  ];
  const [a, b, c] = [
    { name: "Foxglove 7", width: 3.14 },
    { name: 'the "odd", one', width: -1 },
    { name: "unknown", width: null },
  ] as const;

  it("keeps what has the words, or lies on the right side of a number", () => {
    expect([a, b, c].filter((s) => keeps("foxglove", columns, s))).toEqual([a]);
    expect([a, b, c].filter((s) => keeps("star width > 3", columns, s))).toEqual([a]);
    expect([a, b, c].filter((s) => keeps("width < 0", columns, s))).toEqual([]);
    expect([a, b, c].filter((s) => keeps("star width<3,2", columns, s))).toEqual([a, b]);
    expect([a, b, c].filter((s) => keeps("o, star width > 1", columns, s))).toEqual([a]);
    expect([a, b, c].filter((s) => keeps("", columns, s))).toHaveLength(3);
  });

  it("is text with its units, all digits, and quotes where they are needed", () => {
    expect(asText(columns, [a, b, c], ",")).toBe(
      'name,star width (px)\nFoxglove 7,3.14\n"the ""odd"", one",-1\nunknown,\n',
    );
  });
});

describe("the ledger of exposures", () => {
  it("sorts and filters, and what is saved is what is shown", async () => {
    const exposures = [
      exposure(1, { fwhm_px: 4 }),
      exposure(2, { fwhm_px: 3, aside_by: "observer", aside: "haze" }),
      exposure(3, { fwhm_px: 5, proposal: "cloud: thick" }),
    ];
    server({
      [`GET ${HERE}/exposures`]: { exposures, reference: 1, reference_words: "", parts: 4 },
    });
    show(<ExposureLedger />);
    const saved = () => {
      fireEvent.click(screen.getByText("CSV"));
      const [name, text] = vi.mocked(saveText).mock.lastCall!;
      expect(name).toBe("exposures.csv");
      const lines = text.trim().split("\n");
      return lines.slice(1).map((line) => line.split(",")[0]);
    };
    const header = await screen.findByRole("columnheader", { name: /star width/ });
    await vi.waitFor(() => expect(saved()).toHaveLength(3));
    const first = (order: string) => {
      fireEvent.click(header);
      expect(header.getAttribute("aria-sort")).toBe(order);
      return saved()[0];
    };
    expect(first("descending")).toBe("foxglove-003.fits");
    expect(first("ascending")).toBe("foxglove-002.fits");
    fireEvent.change(screen.getByLabelText("filter the ledger"), { target: { value: "haze" } });
    expect(saved()).toEqual(["foxglove-002.fits"]);
    expect(screen.getByText(/1 exposure of 3/)).toBeTruthy();
    fireEvent.click(screen.getByText(/columns/));
    fireEvent.click(await screen.findByLabelText("elongation"));
    expect(screen.queryByRole("columnheader", { name: /elongation/ })).toBeNull();
  });
});

describe("the film", () => {
  const exposures = [0, 10, 20, 30, 40].map((x) => exposure(x + 1, { jd_utc: x }));
  const at = (e: { jd_utc: number }) => e.jd_utc * 10;

  it("shows frames side by side, the one under the beam before all others", () => {
    expect(framesOf(exposures, at, 100, 0, 400, null).map((f) => f.left)).toEqual([0, 150, 250]);
    const under = framesOf(exposures, at, 150, 0, 400, 21);
    expect(under.map((f) => f.exposure.id)).toContain(21);
    under.slice(1).forEach((f, i) => expect(f.left - under[i]!.left).toBeGreaterThanOrEqual(150));
    expect(framesOf(exposures, at, 50, 350, 500, null).map((f) => f.exposure.id)).toEqual([41]);
  });

  it("has frames as large as have room", () => {
    expect([
      frameSize(8, 400, 20, 60),
      frameSize(200, 400, 20, 60),
      frameSize(2, 400, 20, 60),
    ]).toEqual([50, 20, 60]);
  });
});

describe("playing", () => {
  it("begins again at the end, or goes back from there", () => {
    expect(playedAfter(2, 3, false, false)).toEqual({ at: 0, back: false });
    expect(playedAfter(2, 3, false, true)).toEqual({ at: 1, back: true });
    expect(playedAfter(0, 3, true, true)).toEqual({ at: 1, back: false });
    expect(playedAfter(-1, 3, false, false)).toEqual({ at: 0, back: false });
  });
});

describe("reasons", () => {
  it("are gathered by what troubles, the most frequent first", () => {
    expect(troubleOf("trail through the target Foxglove 7")).toBe("trail");
    const groups = byTrouble([
      exposure(1, { proposal: "wind: drawn out" }),
      exposure(2, { proposal: "cloud: 30%" }),
      exposure(3, { proposal: "cloud: 40%" }),
    ]);
    expect(groups.map(([name, some]) => [name, some.length])).toEqual([
      ["cloud", 2],
      ["wind", 1],
    ]);
  });

  it("are asked for in passing and given by a click or in words", async () => {
    const asked = server({
      [`GET ${HERE}/exposures`]: { exposures: [exposure(1)] },
      [`POST ${HERE}/aside`]: {},
    });
    useApp.setState({ asked: [1] });
    show(<Asked />);
    fireEvent.click(await screen.findByLabelText("wind"));
    expect(useApp.getState().asked).toEqual([]);
    useApp.setState({ asked: [1] });
    fireEvent.click(await screen.findByText("ther words"));
    fireEvent.change(screen.getByLabelText("why it is set aside"), { target: { value: "a lamp" } });
    fireEvent.keyDown(screen.getByLabelText("why it is set aside"), { key: "Enter" });
    await vi.waitFor(() => expect(posted(asked)).toHaveLength(2));
    expect(posted(asked).map((a) => a.body)).toEqual([
      { ids: [1], aside: true, reason: "wind" },
      { ids: [1], aside: true, reason: "a lamp" },
    ]);
  });
});

describe("rules and reference", () => {
  it("changes one rule and leaves the others, and takes what is no number for nothing", async () => {
    const asked = server({
      [`GET ${HERE}/vetting`]: vetting(),
      [`PUT ${HERE}/vetting`]: vetting(),
    });
    show(<RulesSection />);
    const light = await screen.findByLabelText("light below of clear");
    fireEvent.change(light, { target: { value: "some" } });
    fireEvent.blur(light);
    fireEvent.change(light, { target: { value: "0,7" } });
    fireEvent.keyDown(light, { key: "Enter" });
    await vi.waitFor(() => expect(asked.some((a) => a.method === "PUT")).toBe(true));
    const sent = asked.filter((a) => a.method === "PUT");
    expect(sent.map((a) => a.body)).toEqual([{ rules: { ...vetting().rules, light: 0.7 } }]);
  });

  it("shows which exposure others lie on, and takes another", async () => {
    const exposures = [exposure(1), exposure(2, { match: "98 stars on the reference’s" })];
    const asked = server({
      [`GET ${HERE}/exposures`]: {
        exposures,
        reference: 1,
        reference_words: "many stars",
        parts: 4,
      },
      [`GET ${HERE}/vetting`]: vetting(),
      [`PUT ${HERE}/vetting`]: vetting(),
    });
    show(<ReferenceSection exposures={exposures} />);
    expect(await screen.findByText("many stars")).toBeTruthy();
    expect(screen.getByText(/98 stars/)).toBeTruthy();
    fireEvent.click(screen.getByText("Take foxglove-002.fits instead"));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PUT")?.body).toEqual({ reference: 2 }),
    );
  });

  it("draws the evidence that there is, and no needle on round stars", () => {
    expect(evidenceOf(null, 4)).toBeNull();
    expect(evidenceOf(exposure(1), 4)!.drawn).toBeNull();
    const long = exposure(1, { elongation: 1.8, trails: [[0, 0, 9, 9]] });
    expect(evidenceOf(long, 4)).toMatchObject({ drawn: { angle: 40 }, trails: [[0, 0, 9, 9]] });
  });
});
