// @vitest-environment jsdom
import { act, fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Film } from "../film/Film";
import { drawEvidence } from "../plate/evidence";
import { Find } from "../plate/Find";
import { drawSkyFrame } from "../plate/frame";
import { planeOf } from "../plate/sky";
import type { Affine } from "../plate/view";
import { StarSection } from "../stages/place/StarSection";
import { useApp } from "../state";
import { campaign, catalogue, measured } from "./builders";
import { HERE, server, show, surface, tidy } from "./page";

const SIZE = { width: 900, height: 600 };
// Two pixels of the screen for a second of arc, north up and east to the left.
const NORTH_UP: Affine = [-2, 0, 450, 0, -2, 300];
const TOUCH = { ra: 341.2, dec: 41.6 };

beforeEach(() => useApp.setState({ campaign: 1, beam: 2 }));
afterEach(tidy);

describe("the frame of the sky", () => {
  it("has lines of round positions where these are, north up, east left, and a bar", () => {
    const [ctx, drawn] = surface(SIZE.width, SIZE.height);
    drawSkyFrame(ctx, NORTH_UP, SIZE, TOUCH);
    const texts = drawn.filter((d) => d.what.startsWith("fillText"));
    const words = texts.map((d) => d.what.slice("fillText ".length));
    expect(words).toContain("N");
    expect(words).toContain("E");
    const [n, e] = ["N", "E"].map((name) => texts[words.indexOf(name)]!.at);
    expect(n![1]).toBeLessThan(84);
    expect(e![0]).toBeLessThan(SIZE.width - 46);
    // 225 by 150 seconds of arc either way: lines of declination every 2′, on even minutes.
    const lines = words.filter((text) => /^\+41 \d\d 00$/.test(text));
    expect(lines.length).toBeGreaterThan(1);
    const at = texts[words.indexOf(lines[0]!)]!.at;
    const dec = 41 + Number(lines[0]!.slice(4, 6)) / 60;
    const there = planeOf(TOUCH.ra, dec, TOUCH.ra, TOUCH.dec)!;
    // The label stands on its line, which bends by less than a pixel over so small a field.
    expect(Math.abs(at[1]! + 4 - (300 - 2 * there.north))).toBeLessThan(3);
    // The bar: the longest round length of 110 px at the most, at two pixels a second of arc.
    expect(words).toContain("30″");
  });

  it("draws no grid about a pole, where its lines would run together", () => {
    const [ctx, drawn] = surface(SIZE.width, SIZE.height);
    drawSkyFrame(ctx, NORTH_UP, SIZE, { ra: 20, dec: 89.999 });
    expect(drawn.some((d) => d.what.includes("+89"))).toBe(false);
    expect(drawn.some((d) => d.what === "fillText N")).toBe(true);
  });
});

describe("evidence", () => {
  it("runs along both sides of a trail, and a needle points the way stars are drawn", () => {
    const [ctx, drawn] = surface(SIZE.width, SIZE.height);
    const same: Affine = [1, 0, 0, 0, 1, 0];
    const evidence = {
      trails: [[0, 100, 400, 100]],
      shaded: [],
      parts: 4,
      drawn: { angle: 90, elongation: 2 },
    };
    drawEvidence(ctx, evidence, same, { width: 400, height: 300 });
    const moves = drawn.filter((d) => d.what === "moveTo").map((d) => d.at);
    expect(moves.slice(0, 2).map((at) => at[1])).toEqual([91, 109]);
    // The long arm stands upright on the middle, the short one lies across, half as long.
    const lines = drawn.filter((d) => d.what === "lineTo").map((d) => d.at);
    const [long, short] = lines.slice(2);
    expect(long![0]).toBeCloseTo(200, 6);
    expect(Math.abs(long![1]! - 150)).toBeCloseTo(46, 6);
    expect(Math.abs(short![0]! - 200)).toBeCloseTo(23, 6);
  });

  it("hatches the parts that something stands before, and these alone", () => {
    const [ctx, drawn] = surface(SIZE.width, SIZE.height);
    const same: Affine = [1, 0, 0, 0, 1, 0];
    const evidence = { trails: [], shaded: [[3, 0]], parts: 4, drawn: null };
    drawEvidence(ctx, evidence, same, { width: 400, height: 400 });
    const outline = drawn.filter((d) => d.what === "moveTo" || d.what === "lineTo").slice(0, 4);
    const xs = outline.map((d) => d.at[0]!);
    expect([Math.min(...xs), Math.max(...xs)]).toEqual([299.5, 399.5]);
    expect(drawn.some((d) => d.what === "clip")).toBe(true);
  });
});

describe("finding", () => {
  it("goes to a star by part of its name, or to a position, and says where it cannot", async () => {
    server({ [`GET ${HERE}`]: campaign(), [`GET ${HERE}/stars`]: catalogue() });
    const went: { east: number; north: number }[] = [];
    const listen = (event: Event) =>
      went.push((event as CustomEvent<{ east: number; north: number }>).detail);
    window.addEventListener("beacon-look", listen);
    useApp.setState({ finding: true });
    show(<Find />);
    const box = await screen.findByLabelText("find a star or a position");
    const name = catalogue().name[1]!;
    fireEvent.change(box, { target: { value: name.toUpperCase() } });
    fireEvent.click(await screen.findByText(name));
    expect(useApp.getState()).toMatchObject({ star: catalogue().row[1], finding: false });
    const { ra_deg, dec_deg } = campaign().target;
    fireEvent.change(box, { target: { value: `${ra_deg} ${dec_deg! + 0.01}` } });
    expect(await screen.findByText("go to this position")).toBeTruthy();
    fireEvent.keyDown(box, { key: "Enter" });
    fireEvent.change(box, { target: { value: "no such star" } });
    expect(screen.getByText(/it is no position/)).toBeTruthy();
    window.removeEventListener("beacon-look", listen);
    expect(went[0]!.east).toBe(catalogue().east_arcsec[1]);
    expect(went[1]!.north).toBeCloseTo(36, 3);
  });

  it("tells all that is known of the star that is chosen", async () => {
    server({
      [`GET ${HERE}`]: campaign(),
      [`GET ${HERE}/stars`]: catalogue(),
      "GET /api/files/2/stars": measured(),
    });
    useApp.setState({ star: catalogue().row[1]! });
    show(<StarSection />);
    expect(
      await screen.findByRole("heading", { name: new RegExp(catalogue().name[1]!) }),
    ).toBeTruthy();
    expect(screen.getByText("from the target")).toBeTruthy();
    expect(screen.getAllByText(/magnitude$/).length).toBeGreaterThan(0);
  });
});

describe("the film", () => {
  it("asks for cut-outs of the target, and folds away", async () => {
    vi.spyOn(HTMLElement.prototype, "getBoundingClientRect").mockReturnValue(
      new DOMRect(0, 0, 800, 70),
    );
    server({
      [`GET ${HERE}`]: campaign(),
      [`GET ${HERE}/stars`]: catalogue(),
      [`GET ${HERE}/exposures`]: { exposures: [], reference: null, reference_words: "", parts: 4 },
    });
    useApp.setState({ film: true });
    show(<Film />);
    expect(await screen.findByText(/0 of 0 shown/)).toBeTruthy();
    act(() => fireEvent.click(screen.getByText("Fold it (J)")));
    expect(useApp.getState().film).toBe(false);
  });
});
