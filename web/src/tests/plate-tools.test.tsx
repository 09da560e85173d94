// @vitest-environment jsdom
import { fireEvent, render, screen } from "@testing-library/react";
import { act } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { ImageInfo } from "../api/types";
import { DEFAULT_STRETCH, Painter, type Scene, type Stretch } from "../plate/painter";
import { PlateTools } from "../plate/PlateTools";
import { Readout, type Pointed } from "../plate/Readout";
import { StretchControl } from "../plate/StretchControl";
import { apply } from "../plate/view";
import { useApp } from "../state";
import { campaign, catalogue, exposure, measured } from "./builders";
import { surface, tidy } from "./page";

const info: ImageInfo = {
  width: 640, height: 480, levels: 1, first: [1, 1], step: 1, tile: 1024, offset: 0, scale: 1, sky: 100, noise: 5,
  low: 90, high: 900, histogram: [1, 40, 9, 2], histogram_low: 80, histogram_step: 100,
}; // prettier-ignore

afterEach(tidy);

describe("the stretch", () => {
  let now: Stretch = DEFAULT_STRETCH;
  const shown = (unit = "ADU") => {
    now = DEFAULT_STRETCH;
    const change = (next: Stretch) => {
      now = next;
      page.rerender(control());
    };
    const control = () => (
      <StretchControl
        info={info}
        stretch={now}
        usual={DEFAULT_STRETCH}
        unit={unit}
        onChange={change}
      />
    );
    const page = render(control());
  };

  it("is told without a unit on a flat, which is relative to 1", () => {
    shown("");
    expect(screen.getByText("87.500–375.000")).toBeTruthy();
  });

  it("is told in ADU and moved by keys in steps of the noise", () => {
    shown();
    expect(screen.getByText("88–375 ADU")).toBeTruthy();
    const white = screen.getByLabelText("shown white");
    fireEvent.keyDown(white, { key: "ArrowRight" });
    expect(now.high).toBeCloseTo(59, 9);
    expect(now.low).toBe(DEFAULT_STRETCH.low);
    fireEvent.keyDown(screen.getByLabelText("shown black"), { key: "ArrowLeft" });
    expect(now.low).toBeCloseTo(-3, 9);
  });

  it("moves the handle that is nearer to the pointer", () => {
    shown();
    const box = screen.getByTestId("stretch");
    // 100 of 168 pixels along a square-root scale over 400 ADU from 80.
    const value = 80 + (100 / 168) ** 2 * 400;
    fireEvent.pointerDown(box, { clientX: 100, pointerId: 1 });
    expect(info.sky + now.low * info.noise).toBeCloseTo(88 - 0.5, 0);
    expect(info.sky + now.high * info.noise).toBeCloseTo(value, 6);
    fireEvent.pointerUp(box);
    const before = now;
    fireEvent.pointerMove(box, { clientX: 20 });
    expect(now).toBe(before);
  });

  it("never lets black cross white", () => {
    shown();
    const black = screen.getByLabelText("shown black");
    for (let n = 0; n < 200; n++) fireEvent.keyDown(black, { key: "ArrowRight" });
    expect(now.low).toBeLessThan(now.high);
  });

  it("can be held at the same ADU for all, and given back", () => {
    shown();
    fireEvent.click(screen.getByText("own"));
    expect(now.held).toEqual({ low: 87.5, high: 375 });
    fireEvent.keyDown(screen.getByLabelText("shown white"), { key: "ArrowRight" });
    expect(now.held).toEqual({ low: 87.5, high: 395 });
    fireEvent.click(screen.getByText("reset"));
    expect(now).toEqual(DEFAULT_STRETCH);
  });
});

describe("what is under the pointer", () => {
  const pointed: Pointed = { x: 319, y: 239, value: 4829.13, east: 60, north: 0, row: 1 };
  const say = (values: Partial<Pointed> | null, pinned: number | null = null, image = info) =>
    render(
      <Readout
        info={image}
        pointed={values && { ...pointed, ...values }}
        unit="ADU"
        pinned={pinned}
        campaign={campaign()}
        catalogue={catalogue()}
        measured={measured()}
      />,
    ).container.textContent!;

  it("is told as FITS counts, with value and position", () => {
    expect(say({ row: null })).toBe("x 320.0 y 240.0 · 4829.1 ADU · 22 44 53.35  +41 36 00.0");
  });

  it("is told in pixels of the file, behind an overscan and of a colour", () => {
    expect(say({ row: null }, null, { ...info, first: [34, 3], step: 2 })).toContain(
      "x 672.0 y 481.0",
    );
  });

  it("is told of a star with its part, magnitudes, signal to noise and flags", () => {
    const words = say({});
    expect(words).toContain("Foxglove 11 comparison 1 · V 11.50 · B 12.00");
    expect(words).toContain("here 11.502 · S/N 330 · saturated");
    expect(say({ row: 0 })).toContain("Foxglove 7 target");
    expect(say({ row: 0 })).toContain("known to vary");
    expect(say({ row: 3 })).toContain("Foxglove 13 check star");
  });

  it("keeps to the chosen star while the pointer is elsewhere", () => {
    expect(say(null)).toBe("");
    expect(say(null, 2)).toContain("Foxglove 12 comparison 2");
    expect(say({ row: null, value: null, east: null, north: null }, 2)).toContain("x 320.0");
  });
});

describe("the tools of the plate", () => {
  const tools = (scene: Partial<Scene> = {}, e = exposure(3)) =>
    render(
      <PlateTools
        scene={{ compare: null, names: ["", ""], ...scene } as Scene}
        exposure={e}
        divider={0.5}
        width={800}
      />,
    );

  it("switch what is laid over and beside it", () => {
    tools();
    fireEvent.click(screen.getByText("north up"));
    fireEvent.click(screen.getByText("overlay"));
    fireEvent.click(screen.getByText("split raw"));
    expect(useApp.getState()).toMatchObject({ northUp: true, overlay: false, split: "raw" });
    fireEvent.click(screen.getByText("split first"));
    expect(useApp.getState().split).toBe("first");
    fireEvent.click(screen.getByText("split first"));
    expect(useApp.getState().split).toBe("none");
  });

  it("say which file it is and what was left out of it", () => {
    tools({}, exposure(3, { placed: false }));
    expect(screen.getByText(/foxglove-003.fits/).textContent).toContain("not placed");
    act(() => useApp.setState({ off: ["offset", "flat"] }));
    expect(screen.getByText(/without dark or bias, flat/)).toBeTruthy();
    act(() => useApp.setState({ rawHeld: true }));
    expect(screen.getByText(/· raw/)).toBeTruthy();
  });

  it("name both sides of the divider", () => {
    const compare = { kind: "files", id: 1, off: "", version: "" } as const;
    tools({ names: ["this one", "first"], compare });
    expect(screen.getByText("this one")).toBeTruthy();
    expect(screen.getByText("first")).toBeTruthy();
  });

  it("say which master it is, and lead back to the exposure", () => {
    useApp.setState({ master: 4, beside: 5 });
    tools({ names: ["flat V", ""] });
    expect(screen.getByText("flat V")).toBeTruthy();
    expect(screen.queryByText("split raw")).toBeNull();
    fireEvent.click(screen.getByText("back to the exposure"));
    expect(useApp.getState()).toMatchObject({ master: null, beside: null });
  });
});

describe("the painter", () => {
  const [ctx, drawn] = surface(888, 644);
  const reference = exposure(1);
  const scene = (values: Partial<Scene> = {}): Scene => ({
    shown: { kind: "files", id: 1, off: "", version: "" },
    exposure: reference,
    compare: null,
    compareExposure: null,
    rawHeld: false,
    reference,
    northUp: false,
    look: "night",
    stretch: DEFAULT_STRETCH,
    overlay: {
      band: "V", catalogue: catalogue(), cast: null, measured: undefined, hovered: null,
      star: null, residuals: false, stars: false, defects: null, evidence: null, pointed: [], marked: null,
    },
    divider: 0.5,
    touch: null,
    names: ["", ""],
    ...values,
  }); // prettier-ignore

  let painter: Painter;
  beforeEach(async () => {
    drawn.length = 0;
    vi.stubGlobal("requestAnimationFrame", () => 1);
    vi.stubGlobal("fetch", (path: string) => {
      if (!/\/\d\/\d\/\d\?/.test(path)) return Promise.resolve(new Response(JSON.stringify(info)));
      return Promise.resolve(
        new Response(new Uint16Array(640 * 480).fill(101).buffer, {
          headers: { "X-Tile-Width": "640", "X-Tile-Height": "480" },
        }),
      );
    });
    const canvas = document.createElement("canvas");
    canvas.getContext = (() => ctx) as never;
    HTMLCanvasElement.prototype.getContext = (() => ctx) as never;
    painter = new Painter(canvas);
    painter.resize(888, 644);
    painter.show(scene());
    await painter.current()!.load(0);
    painter.draw();
  });
  afterEach(() => {
    HTMLCanvasElement.prototype.getContext = () => null;
  });

  it("fits the image, its middle in the middle of the screen", () => {
    const middle = painter.pixelAt({ x: 444, y: 322 })!;
    expect(middle.x).toBeCloseTo(319.5, 6);
    expect(middle.y).toBeCloseTo(239.5, 6);
    const corner = painter.pixelAt({ x: 444 - 322 * (640 / 480), y: 0 })!;
    expect(Math.abs(corner.y - 239.5)).toBeCloseTo(240, 6);
  });

  it("lets the stars stand still when the next exposure was moved and turned", () => {
    const at = apply(painter.toScreen(), { x: 60, y: 0 });
    const flipped = exposure(2, { plane: [1.2, 0, -380, 0, -1.2, 290] });
    painter.show(
      scene({ shown: { kind: "files", id: 2, off: "", version: "" }, exposure: flipped }),
    );
    expect(apply(painter.toScreen(), { x: 60, y: 0 })).toEqual(at);
  });

  it("shows an exposure that was not placed where the reference is", () => {
    const lost = exposure(3, { plane: null, placed: false });
    painter.show(scene({ shown: { kind: "files", id: 3, off: "", version: "" }, exposure: lost }));
    expect(painter.planeOf(lost, painter.current())).toEqual(reference.plane);
  });

  it("stretches each image by its own sky and noise, unless it is held", () => {
    const plane = painter.current()!;
    expect(painter.range(plane)).toEqual({ low: 100 - 2.5 * 5, high: 100 + 55 * 5 });
    painter.show(scene({ stretch: { ...DEFAULT_STRETCH, held: { low: 1, high: 2 } } }));
    expect(painter.range(plane)).toEqual({ low: 1, high: 2 });
  });

  it("shows the raw image while that is held, and both where the plate is split", () => {
    painter.show(scene({ rawHeld: true }));
    expect(painter.current()!.shown.off).toBe("overscan,offset,flat,repair");
    painter.show(scene({ compare: { kind: "files", id: 1, off: "flat", version: "" } }));
    drawn.length = 0;
    painter.draw();
    const clips = drawn.filter((d) => d.what === "rect").map((d) => d.at);
    expect(clips[0]).toEqual([0, 0, 444, 644]);
  });

  it("looks at a star from near, and paints it alone for the loupe", () => {
    painter.lookAt(60, 0, 64);
    const star = painter.pixelAt({ x: 444, y: 322 })!;
    // The star lies 60″ east of the target at pixel (320, 240), 1.2″ a pixel.
    expect(star.x).toBeCloseTo(320 - 50, 6);
    expect(star.y).toBeCloseTo(240, 6);
    drawn.length = 0;
    painter.paintAbout(ctx, star, 37, 184);
    expect(drawn.map((d) => d.what)).toContain("drawImage");
    expect(drawn.map((d) => d.what)).not.toContain("arc");
    const [a, b, c, d, e, f] = drawn.find((one) => one.what === "transform")!.at as number[];
    // The star's pixel lands in the middle of the loupe, 184 pixels wide.
    expect(a! * (star.x + 0.5) + c! * (star.y + 0.5) + e!).toBeCloseTo(92, 6);
    expect(b! * (star.x + 0.5) + d! * (star.y + 0.5) + f!).toBeCloseTo(92, 6);
  });
});
