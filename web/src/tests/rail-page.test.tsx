// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import { act } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../api/queries";
import { INSET_LEFT, INSET_RIGHT } from "../rail/axis";
import { lanesOf } from "../rail/draw";
import { Rail } from "../rail/Rail";
import { FoldersSection } from "../stages/intake/FoldersSection";
import { useApp } from "../state";
import { campaign, exposure } from "./builders";
import { serve, show, surface, tidy, type Asked } from "./page";

const HERE = "/api/campaigns/1";
const [WIDTH, HEIGHT] = [800, 116];
const now = () => useApp.getState();

describe("the rail", () => {
  // V at even places, B at odd ones, four minutes apart.
  const exposures = Array.from({ length: 12 }, (_, i) =>
    exposure(i + 1, { filter: i % 2 ? "B" : "V" }),
  );
  const lane = (filter: string) =>
    lanesOf(["V", "B"], HEIGHT).find((one) => one.filter === filter)!.base - 4;
  /** Where an exposure stands: six minutes of air at either side of 44 minutes. */
  const at = (id: number) =>
    INSET_LEFT + ((6 + (id - 1) * 4) / 56) * (WIDTH - INSET_LEFT - INSET_RIGHT);

  beforeEach(async () => {
    serve({
      [`GET ${HERE}`]: campaign({ filters: ["V", "B"], site: null }),
      [`GET ${HERE}/exposures`]: { exposures, reference: 1 },
    });
    vi.spyOn(Element.prototype, "clientWidth", "get").mockReturnValue(WIDTH);
    vi.spyOn(Element.prototype, "clientHeight", "get").mockReturnValue(HEIGHT);
    HTMLCanvasElement.prototype.getContext = (() =>
      Object.assign(surface(WIDTH, HEIGHT)[0], { setTransform: () => {} })) as never;
    useApp.setState({ campaign: 1, beam: 1 });
    show(<Rail />);
    await vi.waitFor(() => expect(client.getQueryData(["campaign", 1, "exposures"])).toBeTruthy());
    await screen.findByText("B");
  });
  afterEach(() => {
    HTMLCanvasElement.prototype.getContext = () => null;
    tidy();
  });

  const box = () => screen.getByTestId("rail");
  const drag = (from: number, to: number, y = 60) => {
    fireEvent.pointerDown(box(), { clientX: from, clientY: y, pointerId: 1 });
    fireEvent.pointerMove(box(), { clientX: to, clientY: y });
    fireEvent.pointerUp(box(), { clientX: to, clientY: y });
  };

  it("moves the beam to the nearest exposure of the lane that is clicked", () => {
    drag(at(6), at(6), lane("B"));
    expect(now().beam).toBe(6);
    drag(at(6), at(6), lane("V"));
    expect([5, 7]).toContain(now().beam);
    drag(at(12) + 30, at(12) + 31, lane("V"));
    expect(now().beam).toBe(11);
  });

  it("takes a stretch of time in all lanes by dragging, either way", () => {
    drag(at(3) - 2, at(6) + 2);
    expect(now().selection).toEqual([3, 4, 5, 6]);
    drag(at(9) + 2, at(8) - 2);
    expect(now().selection).toEqual([8, 9]);
    drag(at(1), at(1), lane("V"));
    expect(now().selection).toEqual([]);
  });

  it("zooms about the pointer and comes back to the whole", async () => {
    fireEvent.wheel(box(), { clientX: at(6), deltaY: -100 });
    await vi.waitFor(() => expect(now().domain).not.toBeNull());
    const [from, to] = now().domain!;
    expect(to - from).toBeCloseTo((56 / 60) * 0.8, 6);
    // What was under the pointer still is: the sixth exposure, 26 minutes from the left edge.
    const share = (26 / 60 - from) / (to - from);
    expect(share).toBeCloseTo(26 / 56, 6);
    fireEvent.click(await screen.findByText("all of it"));
    expect(now().domain).toBeNull();
  });

  it("shows the range of each line that is chosen, up to four of them", async () => {
    fireEvent.click(screen.getByLabelText("lines on the rail"));
    fireEvent.click(await screen.findByLabelText(/^skyADU/));
    expect(now().lines).toEqual(["fwhm_px", "sky_adu_per_px"]);
    const ranges = screen.getAllByTitle("lowest and highest of the line");
    expect(ranges[1]!.textContent).toContain("ADU");
    for (const name of [/^elongation/, /^stars/, /^noise/])
      fireEvent.click(screen.getByLabelText(name));
    expect(now().lines).toEqual(["sky_adu_per_px", "elongation", "stars", "noise"]);
    fireEvent.click(screen.getByLabelText(/^noise/));
    expect(now().lines).toHaveLength(3);
  });

  it("tells what lies here before there is a night", async () => {
    act(() =>
      client.setQueryData(["campaign", 1, "exposures"], { exposures: [], reference: null }),
    );
    expect(await screen.findByText(/one stroke for every exposure/)).toBeTruthy();
  });
});

describe("the folders of a campaign", () => {
  let asked: Asked[] = [];
  beforeEach(() => {
    asked = serve({
      "GET /api/folders?path=&files=": {
        path: "", parent: null, files: 0, has_plan: false,
        folders: [{ path: "/nights/two", name: "two", files: 9, has_plan: false }],
        named: [],
      },
      "GET /api/folders?path=%2Fnights%2Ftwo&files=": {
        path: "/nights/two", parent: "", files: 9, has_plan: false, folders: [], named: [],
      },
      [`POST ${HERE}/jobs`]: {},
      [`PATCH ${HERE}`]: campaign(),
      [`POST ${HERE}/upload`]: { words: "1 file taken in." },
    }); // prettier-ignore
    useApp.setState({ campaign: 1 });
  });
  afterEach(tidy);
  const posted = () => asked.filter((a) => a.method !== "GET");

  it("lead to the curve once it is there", () => {
    show(<FoldersSection campaign={campaign()} files={60} />);
    fireEvent.click(screen.getByText("See the curve"));
    expect(now().stage).toBe("curve");
    expect(screen.queryByText("Reduce all of it")).toBeNull();
  });

  it("can be taken out again, and the way goes on from them", async () => {
    show(<FoldersSection campaign={campaign()} files={60} />);
    fireEvent.click(screen.getByLabelText("take out /nights/foxglove/raw"));
    await vi.waitFor(() =>
      expect(asked.find((a) => a.method === "PATCH")?.body).toEqual({ folders: [] }),
    );
    fireEvent.click(screen.getByText("See the curve"));
    expect(now().stage).toBe("curve");
  });

  it("wait for a catalogue before anything is reduced", () => {
    const bare = campaign({ catalogue: null }, { intake: { state: "look" } });
    show(<FoldersSection campaign={bare} files={60} />);
    expect(screen.queryByText("Reduce all of it")).toBeNull();
    expect(screen.queryByText("See the curve")).toBeNull();
  });

  it("take in another folder, and files from this computer", async () => {
    show(<FoldersSection campaign={campaign()} files={60} />);
    fireEvent.click(screen.getByText("Add a folder"));
    const add = screen.getByText("Add it") as HTMLButtonElement;
    expect(add.disabled).toBe(true);
    fireEvent.click(await screen.findByText("/nights/two"));
    await vi.waitFor(() => expect(add.disabled).toBe(false));
    fireEvent.click(add);
    await vi.waitFor(() =>
      expect(posted()[0]!.body).toEqual({ folders: ["/nights/foxglove/raw", "/nights/two"] }),
    );
    fireEvent.change(screen.getByLabelText("Upload"), {
      target: { files: [new File(["x"], "one.fits")] },
    });
    await vi.waitFor(() => expect(now().saying?.words).toBe("1 file taken in."));
  });
});
