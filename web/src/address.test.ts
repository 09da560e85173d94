// The address bar, as far as following it goes.
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { follow, readAddress, writeAddress } from "./address";
import { useApp } from "./state";

describe("an address", () => {
  it("names campaign, stage and exposure", () => {
    expect(readAddress("#/3/vet/41")).toEqual({ campaign: 3, stage: "vet", beam: 41 });
    expect(readAddress("#/3/curve")).toEqual({ campaign: 3, stage: "curve", beam: null });
    expect(readAddress("#/3")).toEqual({ campaign: 3, beam: null });
  });

  it("keeps the stage where it names none that there is", () => {
    expect(readAddress("#/3/attic/41")).toEqual({ campaign: 3, beam: 41 });
    expect(readAddress("#/")).toBeNull();
    expect(readAddress("")).toBeNull();
  });

  it("is read as it was written", () => {
    expect(readAddress(writeAddress(7, "measure", 12))).toEqual({
      campaign: 7,
      stage: "measure",
      beam: 12,
    });
    expect(readAddress(writeAddress(7, "intake", null))?.beam).toBeNull();
  });
});

describe("following the address", () => {
  let listeners: (() => void)[] = [];
  let stop: () => void;
  const bar = { hash: "" };

  beforeEach(() => {
    listeners = [];
    bar.hash = "#/1/intake/5";
    vi.stubGlobal("location", bar);
    vi.stubGlobal("history", {
      replaceState: (_: null, __: string, hash: string) => void (bar.hash = hash),
    });
    vi.stubGlobal("window", {
      addEventListener: (_: string, listener: () => void) => listeners.push(listener),
      removeEventListener: () => (listeners = []),
    });
    useApp.setState({ campaign: null, stage: "intake", beam: null });
    stop = follow();
  });
  afterEach(() => {
    stop();
    vi.unstubAllGlobals();
  });

  it("opens what it names", () => {
    expect(useApp.getState()).toMatchObject({ campaign: 1, stage: "intake", beam: 5 });
    bar.hash = "#/2/curve";
    listeners.forEach((heard) => heard());
    expect(useApp.getState()).toMatchObject({ campaign: 2, stage: "curve", beam: null });
    expect(bar.hash).toBe("#/2/curve");
  });

  it("writes where the observer went", () => {
    useApp.setState({ stage: "vet" });
    useApp.setState({ beam: 9 });
    expect(bar.hash).toBe("#/1/vet/9");
  });

  it("lets an address that was not heard yet win over a beam that moves meanwhile", () => {
    bar.hash = "#/2/curve";
    useApp.setState({ beam: 6 });
    expect(useApp.getState()).toMatchObject({ campaign: 2, stage: "curve" });
    expect(bar.hash).toBe("#/2/curve");
  });

  it("ends when it is told to", () => {
    stop();
    useApp.setState({ stage: "report" });
    expect(bar.hash).toBe("#/1/intake/5");
    expect(listeners).toEqual([]);
  });
});
