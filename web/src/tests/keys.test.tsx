// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import { act } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../api/queries";
import { useApp } from "../state";
import { KEYS, useKeys } from "../ui/Keys";
import { Sheets } from "../ui/Sheets";
import { campaign, curve, exposure } from "./builders";
import { serve, show, tidy, type Asked } from "./page";

function Keyboard() {
  useKeys();
  return (
    <>
      <Sheets />
      <input aria-label="field" />
      <button>button</button>
    </>
  );
}

const HERE = "/api/campaigns/1";
let asked: Asked[] = [];
const now = () => useApp.getState();
const press = (key: string, more: object = {}, at: Element = document.body) =>
  act(() => void fireEvent.keyDown(at, { key, ...more }));

beforeEach(async () => {
  asked = serve({
    [`GET ${HERE}`]: campaign(),
    [`GET ${HERE}/exposures`]: {
      exposures: [
        exposure(1),
        exposure(2, { filter: "B" }),
        exposure(3, { proposal: "cloud" }),
        exposure(4),
        exposure(5, { aside_by: "observer", aside: "haze" }),
      ],
      reference: 1,
    },
    [`POST ${HERE}/aside`]: {},
    [`POST ${HERE}/undo`]: {},
    [`POST ${HERE}/redo`]: {},
    [`POST ${HERE}/cast`]: curve(),
  });
  useApp.setState({ campaign: 1, beam: 1 });
  show(<Keyboard />);
  await vi.waitFor(() => expect(client.getQueryData(["campaign", 1, "exposures"])).toBeTruthy());
  await vi.waitFor(() => expect(client.getQueryData(["campaign", 1, ""])).toBeTruthy());
});
afterEach(tidy);

const posted = () => asked.filter((a) => a.method === "POST");

describe("the keyboard", () => {
  it("steps through the night and stops at its ends", () => {
    press("ArrowRight");
    expect(now().beam).toBe(2);
    press("End");
    press("ArrowRight");
    expect(now().beam).toBe(5);
    press("Home");
    press("ArrowLeft");
    expect(now().beam).toBe(1);
  });

  it("goes from remark to remark with Shift", () => {
    press("ArrowRight", { shiftKey: true });
    expect(now().beam).toBe(3);
    press("ArrowRight", { shiftKey: true });
    expect(now().beam).toBe(5);
    press("ArrowLeft", { shiftKey: true });
    expect(now().beam).toBe(3);
  });

  it("keeps to one filter where that is wanted", () => {
    press("v");
    expect(now().filter).toBe("V");
    press("ArrowRight");
    expect(now().beam).toBe(3);
    press("v");
    expect(now().filter).toBe("");
  });

  it("opens stages, turns, folds and plays", () => {
    press("5");
    press("n");
    press("b");
    press(" ");
    expect(now()).toMatchObject({
      stage: "cast", northUp: true, benchFolded: true, playing: true,
    }); // prettier-ignore
    press("Escape");
    expect(now().playing).toBe(false);
  });

  it("plays exposure after exposure until it is stopped", () => {
    vi.useFakeTimers();
    press(" ");
    act(() => void vi.advanceTimersByTime(300));
    const there = now().beam!;
    expect(there).toBeGreaterThan(1);
    press(" ");
    act(() => void vi.advanceTimersByTime(1000));
    expect(now().beam).toBe(there);
    vi.useRealTimers();
  });

  it("shows the raw exposure as long as C is held", () => {
    press("c");
    expect(now().rawHeld).toBe(true);
    act(() => void fireEvent.keyUp(window, { key: "c" }));
    expect(now().rawHeld).toBe(false);
  });

  it("sets aside what is under the beam, or the stretch, and restores it", async () => {
    press("x");
    await vi.waitFor(() => expect(posted()).toHaveLength(1));
    act(() => useApp.setState({ selection: [3, 4] }));
    press("x");
    act(() => useApp.setState({ selection: [], beam: 5 }));
    press("x");
    await vi.waitFor(() => expect(posted()).toHaveLength(3));
    expect(posted().map((a) => a.body)).toEqual([
      { ids: [1], aside: true, reason: "" },
      { ids: [3, 4], aside: true, reason: "" },
      { ids: [5], aside: false, reason: "" },
    ]);
  });

  it("goes on after X, and one key says why; a proposal says it itself", async () => {
    press("x");
    expect(now()).toMatchObject({ beam: 2, asked: [1] });
    press("f");
    expect(now()).toMatchObject({ asked: [], beam: 2, rawHeld: false });
    press("f"); // fits the image again
    act(() => useApp.setState({ beam: 3 }));
    press("x");
    expect(now()).toMatchObject({ beam: 4, asked: [] });
    await vi.waitFor(() => expect(posted()).toHaveLength(3));
    expect(posted().map((a) => a.body)).toEqual([
      { ids: [1], aside: true, reason: "" },
      { ids: [1], aside: true, reason: "focus" },
      { ids: [3], aside: true, reason: "cloud" },
    ]);
  });

  it("plays the selected stretch alone, and back again where that is wanted", () => {
    vi.useFakeTimers();
    act(() => useApp.setState({ selection: [2, 3, 4], beam: 2, playMs: 100, playBack: true }));
    press(" ");
    const seen = [2];
    for (let n = 0; n < 6; n++) {
      act(() => void vi.advanceTimersByTime(100));
      seen.push(now().beam!);
    }
    press(" ");
    vi.useRealTimers();
    expect(seen).toEqual([2, 3, 4, 3, 2, 3, 4]);
  });

  it("undoes, and does again with Shift", async () => {
    press("z", { ctrlKey: true });
    press("Z", { ctrlKey: true, shiftKey: true });
    await vi.waitFor(() =>
      expect(posted().map((a) => a.path)).toEqual([`${HERE}/undo`, `${HERE}/redo`]),
    );
  });

  it("gives a part to the chosen star only", async () => {
    press("k");
    expect(posted()).toEqual([]);
    act(() => useApp.setState({ star: 2 }));
    press("k");
    await vi.waitFor(() => expect(posted()).toHaveLength(1));
    expect(posted()[0]!.body).toEqual({ target: 0, comparison: [1], checks: [3, 2] });
  });

  it("is silent while something is typed, and leaves buttons their space bar", () => {
    press("5", {}, screen.getByLabelText("field"));
    press("x", {}, screen.getByLabelText("field"));
    press(" ", {}, screen.getByText("button"));
    expect(now()).toMatchObject({ stage: "intake", playing: false });
    expect(posted()).toEqual([]);
  });

  it("lists all of its keys", async () => {
    press("?");
    const shown = await screen.findByRole("dialog");
    for (const [keys, words] of KEYS) {
      expect(shown.textContent).toContain(keys);
      expect(shown.textContent).toContain(words);
    }
  });
});
