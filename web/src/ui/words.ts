/** Numbers and moments as an observer writes them. */

export function fixed(value: number | null | undefined, digits: number, unit = ""): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return "–";
  const text = value.toFixed(digits).replace("-", "−");
  if (!unit) return text;
  // Degrees and seconds of arc stand close; degrees Celsius and all else apart.
  return unit === "°" || unit.startsWith("″") ? `${text}${unit}` : `${text} ${unit}`;
}

/** An uncertainty in mag as "± 2.1 mmag"; of one that a tenth does not show, that it is less. */
export function plusMinusMmag(value: number): string {
  return value < 5e-5 ? "± < 0.1 mmag" : `± ${fixed(1000 * value, 1, "mmag")}`;
}

/** The radius on each night: one where they are alike. */
export function radiusWords(radii: readonly number[]): string {
  const each = [...new Set(radii.map((r) => r.toFixed(2)))];
  return `${each.join(", ")} px`;
}

export function seconds(value: number): string {
  return value >= 10 || Number.isInteger(value)
    ? `${Math.round(value)} s`
    : `${value.toFixed(1)} s`;
}

const RAISED = "⁰¹²³⁴⁵⁶⁷⁸⁹";

/** A small chance by its logarithm: 1 in 10⁴³³. */
export function oneIn(log10: number | null | undefined): string {
  if (log10 === null || log10 === undefined) return "–";
  const digits = String(Math.round(Math.abs(log10)));
  return `1 in 10${[...digits].map((d) => RAISED[Number(d)]).join("")}`;
}

/** 0:41, 12:05, 1:02:00 */
export function duration(totalSeconds: number): string {
  const whole = Math.max(0, Math.round(totalSeconds));
  const [h, m, s] = [Math.floor(whole / 3600), Math.floor((whole % 3600) / 60), whole % 60];
  const two = (n: number) => String(n).padStart(2, "0");
  return h ? `${h}:${two(m)}:${two(s)}` : `${m}:${two(s)}`;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${count} ${count === 1 ? one : many}`;
}

export function clockUtc(text: string): string {
  return text.slice(11, 19);
}

/** A moment with its year, as tables have it: sorted as text it is in order of time. */
export function stampUtc(iso: string): string {
  return `${iso.slice(0, 10)} ${clockUtc(iso)}`;
}

const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");

export function dayAndMonth(iso: string): string {
  const [, month, day] = iso.slice(0, 10).split("-");
  return `${Number(day)} ${MONTHS[Number(month) - 1]}`;
}

/** Which year it is. */
export const calendar = { year: () => new Date().getFullYear() };

/** A day, with its year where that is not the present one. */
export function dayOf(iso: string): string {
  const year = iso.slice(0, 4);
  return Number(year) === calendar.year() ? dayAndMonth(iso) : `${dayAndMonth(iso)} ${year}`;
}

/** The nights of a campaign in a few words: each while they are few, else the first and the last. */
export function nightsWords(evenings: readonly string[]): string {
  if (!evenings.length) return "";
  if (evenings.length <= 2) return evenings.map(dayOf).join(", ");
  return `${evenings.length} nights, ${dayOf(evenings[0]!)} to ${dayOf(evenings.at(-1)!)}`;
}

/** Whole parts and sixtieths, rounded before they are parted: never 60 of anything. */
function sexagesimal(total: number, digits: number): string {
  const unit = 10 ** digits;
  const rounded = Math.round(total * unit);
  const whole = Math.floor(rounded / (3600 * unit));
  const minutes = Math.floor(rounded / (60 * unit)) % 60;
  const rest = (rounded % (60 * unit)) / unit;
  const two = (n: number) => String(n).padStart(2, "0");
  return `${two(whole)} ${two(minutes)} ${rest.toFixed(digits).padStart(digits + 3, "0")}`;
}

/** 22 41 02.60 */
export function rightAscension(degrees: number): string {
  const turn = ((degrees / 15) * 3600 + 86400) % 86400;
  return sexagesimal(Math.round(turn * 100) >= 8640000 ? 0 : turn, 2);
}

/** +38 12 44.0 */
export function declination(degrees: number): string {
  return `${degrees < 0 ? "−" : "+"}${sexagesimal(Math.abs(degrees) * 3600, 1)}`;
}

export const FILTER_COLOURS: Record<string, string> = {
  U: "--filter-u",
  B: "--filter-b",
  V: "--filter-v",
  R: "--filter-r",
  I: "--filter-i",
};

export function filterColour(filter: string): string {
  const key = filter.trim().slice(-1).toUpperCase();
  return `var(${FILTER_COLOURS[key] ?? "--filter-other"})`;
}

const known = new Map<string, string>();
let knownLook: string | undefined;

/** A colour variable's value now, for drawing on a canvas; asked of the browser once a look. */
export function colour(name: string): string {
  const { look } = document.documentElement.dataset;
  if (look !== knownLook) known.clear();
  knownLook = look;
  let value = known.get(name);
  if (value === undefined) {
    const match = /var\((.+)\)/.exec(name);
    const style = getComputedStyle(document.documentElement);
    value = style.getPropertyValue(match?.[1] ?? name).trim();
    known.set(name, value);
  }
  return value;
}

export function shortName(path: string): string {
  return path.slice(path.lastIndexOf("/") + 1);
}
