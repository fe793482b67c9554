// Figures as they are read: fixed places, units with them, a dash for what does not exist.

export const DASH = "–";
/** Our own way: a point, thousands apart by a space, the day before the month. */
const OWN = "en-GB";
let locale = OWN;

/** From now on, language and country (BCP 47) in whose way figures are written. */
export function writeAsIn(tag: string) {
  locale = tag;
}

/** No line ends between the two. */
export function withUnit(figure: number | string, unit: string): string {
  return `${figure}\u00a0${unit}`;
}

export function fixed(value: number | null | undefined, places: number): string {
  return value === null || value === undefined ? DASH : decimal(value, places);
}

export function ms(value: number | null | undefined, places = 0): string {
  return value === null || value === undefined ? DASH : withUnit(decimal(value, places), "ms");
}

export function pct(value: number | null | undefined, places = 1): string {
  return value === null || value === undefined ? DASH : withUnit(decimal(value, places), "%");
}

/** Without thousands apart: what has places is small. */
function decimal(value: number, places: number): string {
  if (locale === OWN) return value.toFixed(places);
  return value.toLocaleString(locale, {
    minimumFractionDigits: places,
    maximumFractionDigits: places,
    useGrouping: false,
  });
}

export function count(value: number): string {
  const written = value.toLocaleString(locale);
  return locale === OWN ? written.replaceAll(",", "\u00a0") : written;
}

export function megabits(kbps: number | null): string {
  return kbps === null ? DASH : withUnit(kbps / 1000, "Mbit/s");
}

/** What was measured, as fine as it is known. */
export function throughput(kbps: number | null | undefined): string {
  if (kbps === null || kbps === undefined) return DASH;
  return withUnit(decimal(kbps / 1000, kbps < 10_000 ? 2 : 0), "Mbit/s");
}

export function plural(n: number, one: string, many = `${one}s`): string {
  return `${n} ${n === 1 ? one : many}`;
}

/** Time of day at the site. */
export function clock(us: number, timeZone: string): string {
  return new Date(us / 1000).toLocaleTimeString(locale, { timeZone });
}

/** Day and time at the site. */
export function dateTime(us: number, timeZone: string): string {
  return new Date(us / 1000).toLocaleString(locale, {
    weekday: "short",
    day: "2-digit",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
    timeZone,
  });
}

/** "2 min ago", from microseconds. */
export function ago(us: number, now = Date.now()): string {
  const s = Math.max(0, Math.round(now / 1000 - us / 1e6));
  if (s < 60) return `${withUnit(s, "s")} ago`;
  if (s < 3600) return `${withUnit(Math.floor(s / 60), "min")} ago`;
  if (s < 86_400) return `${withUnit(Math.floor(s / 3600), "h")} ago`;
  return `${plural(Math.floor(s / 86_400), "day")} ago`;
}

/** A length of time in the two units that matter: "14 min", "1 h 05 min", "40 s". */
export function duration(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 90) return withUnit(s, "s");
  const minutes = Math.round(s / 60);
  if (minutes < 60) return withUnit(minutes, "min");
  return `${withUnit(Math.floor(minutes / 60), "h")} ${withUnit(String(minutes % 60).padStart(2, "0"), "min")}`;
}

/** DSCP names of RFC 2474, 2597, 3246, 5865 and 8622, by value. */
const MARKS: Record<number, string> = {
  0: "best effort",
  1: "LE",
  44: "VOICE-ADMIT",
  46: "EF",
  ...Object.fromEntries([1, 2, 3, 4, 5, 6, 7].map((n) => [8 * n, `CS${n}`])),
  ...Object.fromEntries(
    [1, 2, 3, 4].flatMap((n) => [1, 2, 3].map((drop) => [8 * n + 2 * drop, `AF${n}${drop}`])),
  ),
};

export function marking(dscp: number): string {
  return MARKS[dscp] ? `${MARKS[dscp]} (${dscp})` : `DSCP ${dscp}`;
}

export function whole(value: number | null): number | null {
  return value === null ? null : Math.round(value);
}
