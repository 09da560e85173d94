import { vi } from "vitest";
import { calendar } from "../ui/words";

// Days of the present year are told without it: that of the tests' nights.
calendar.year = () => 2026;

/** What is waited for comes at once, but on a machine that others keep busy. */
const PATIENT_MS = 30_000;
const { waitFor } = vi;
vi.waitFor = (told, options) => waitFor(told, options ?? { timeout: PATIENT_MS });

/** What a browser has and the tests' DOM lacks. */
if (typeof window !== "undefined") {
  const { configure } = await import("@testing-library/react");
  configure({ asyncUtilTimeout: PATIENT_MS });
  class Watcher {
    observe(): void {}
    unobserve(): void {}
    disconnect(): void {}
  }
  class Pixels {
    readonly data: Uint8ClampedArray;
    constructor(
      readonly width: number,
      readonly height: number,
    ) {
      this.data = new Uint8ClampedArray(4 * width * height);
    }
  }
  Object.assign(globalThis, {
    ResizeObserver: Watcher,
    ImageData: Pixels,
    matchMedia: () => ({ matches: false, addEventListener: () => {} }),
  });
  HTMLCanvasElement.prototype.getContext = () => null;
  Object.assign(Element.prototype, {
    setPointerCapture: () => {},
    hasPointerCapture: () => false,
    releasePointerCapture: () => {},
    scrollIntoView: () => {},
  });
}
