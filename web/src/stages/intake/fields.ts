/** What can be said of a file, in groups: its name with the server, on the page, and an example. */
export interface Word {
  key: string;
  words: string;
  hint: string;
  /** What the header said of it, where that is shown under another name. */
  said?: string;
  options?: readonly (readonly [string, string])[];
}

const KINDS = ["exposure", "bias", "dark", "flat", "flat dark"];

export const WORDS: readonly { title: string; words: readonly Word[] }[] = [
  {
    title: "",
    words: [
      { key: "kind", words: "kind", hint: "", options: KINDS.map((kind) => [kind, kind] as const) },
      { key: "filter", words: "filter", hint: "V" },
      { key: "exposure_s", words: "exposure, s", hint: "60" },
    ],
  },
  {
    title: "Time",
    words: [
      { key: "time_utc", words: "start, UTC", hint: "2026-10-12 21:04:30" },
      { key: "shift_s", words: "add to the header's time", said: "", hint: "−2h, +1:30 or 12.5" },
      {
        key: "moment",
        words: "the header's time is",
        said: "",
        hint: "",
        options: [
          ["start", "the start"],
          ["middle", "the middle"],
          ["end", "the end"],
        ],
      },
    ],
  },
  {
    title: "Camera and settings",
    words: [
      { key: "camera", words: "camera", hint: "Kittiwake 800" },
      { key: "telescope", words: "telescope", hint: "the 280 mm" },
      { key: "temperature_c", words: "temperature, °C", hint: "−10" },
      { key: "gain_setting", words: "gain", hint: "100" },
      { key: "offset_setting", words: "offset", hint: "30" },
    ],
  },
  {
    title: "Position",
    words: [
      { key: "ra_deg", words: "right ascension", hint: "22 41 02.6" },
      { key: "dec_deg", words: "declination", hint: "+38 12 44" },
    ],
  },
];
