// The minute bench: from times and round trips to places on paper, apart from whatever draws them.

export const BENCH = { width: 1180, left: 150, lane: 62, gap: 20, calls: 30 };
const DEPTHS = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000];

/** Where an instant stands. */
export function xOf(us: number, fromUs: number, untilUs: number): number {
  return BENCH.left + ((us - fromUs) / (untilUs - fromUs)) * (BENCH.width - BENCH.left);
}

/** How deep a lane is in ms: a round number that all but the longest fiftieth of its answers fit in. */
export function depthOf(longest: (number | null)[]): number {
  const known = longest.filter((ms): ms is number => ms !== null).sort((a, b) => a - b);
  const needed = known[Math.floor(0.98 * (known.length - 1))] ?? 1;
  return DEPTHS.find((depth) => depth >= needed) ?? 10_000;
}

/** Stretches of neighbours that were answered, as places in the lists; a pause of samples ends one. */
export function stretchesOf(
  atUs: number[],
  answered: (number | null)[],
  pauseUs: number,
): [number, number][] {
  const found: [number, number][] = [];
  let first = -1;
  for (let i = 0; i < atUs.length; i++) {
    const apart = i > 0 && (atUs[i] ?? 0) - (atUs[i - 1] ?? 0) > pauseUs;
    if (first >= 0 && (apart || answered[i] === null)) {
      found.push([first, i - 1]);
      first = -1;
    }
    if (first < 0 && answered[i] !== null) first = i;
  }
  if (first >= 0) found.push([first, atUs.length - 1]);
  return found;
}

const TICKS_S = [
  1, 5, 10, 30, 60, 120, 300, 600, 1800, 3600, 7200, 10_800, 21_600, 43_200, 86_400, 172_800, 604_800,
];

const LONG_STEP_S = 21_600;

/** Instants to be labelled, between six and twelve of them, on whole steps of the site's own clock. */
export function ticksOf(fromUs: number, untilUs: number, zone: string): number[] {
  const step = (TICKS_S.find((s) => (untilUs - fromUs) / 1e6 / s <= 12) ?? 604_800) * 1e6;
  const offset = offsetOf(fromUs, zone);
  const first = Math.ceil((fromUs + offset) / step) * step - offset;
  const ticks = Array.from(
    { length: Math.max(0, Math.floor((untilUs - first) / step) + 1) },
    (_, i) => first + i * step,
  );
  // Steps of an hour or so stay even where clocks change; longer ones begin with the day, whichever hour that is by then.
  if (step < LONG_STEP_S * 1e6) return ticks;
  return ticks.map((us) => us + offset - offsetOf(us, zone)).filter((us) => us <= untilUs);
}

const clocks = new Map<string, Intl.DateTimeFormat>();

/** Of a zone, made once: making one takes far longer than using it. */
function clockOf(zone: string): Intl.DateTimeFormat {
  const known = clocks.get(zone);
  if (known) return known;
  const made = new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hourCycle: "h23",
    year: "numeric",
    month: "numeric",
    day: "numeric",
    hour: "numeric",
    minute: "numeric",
    second: "numeric",
  });
  clocks.set(zone, made);
  return made;
}

/** How far the site's clock is ahead of UTC at an instant. */
export function offsetOf(us: number, zone: string): number {
  const at = new Date(us / 1000);
  const parts = Object.fromEntries(
    clockOf(zone)
      .formatToParts(at)
      .map((part) => [part.type, Number(part.value)]),
  ) as Record<string, number>;
  const shown = Date.UTC(
    parts.year ?? 0,
    (parts.month ?? 1) - 1,
    parts.day,
    parts.hour,
    parts.minute,
    parts.second,
  );
  return (shown - Math.floor(at.getTime() / 1000) * 1000) * 1000;
}

/** The day and the minute of it that the site's clock shows at an instant. */
export function momentOf(us: number, zone: string): { day: string; minute: number } {
  const local = new Date((us + offsetOf(us, zone)) / 1000);
  return { day: local.toISOString().slice(0, 10), minute: local.getUTCHours() * 60 + local.getUTCMinutes() };
}

const HALF_HOUR_US = 1_800_000_000;
const DAY_US = 86_400_000_000;
const SPREADS = 3;
const MAD_TO_SIGMA = 1.4826;

export interface Normal {
  from: number;
  until: number;
  low: number;
  high: number;
}

/** What is normal in a span: by the hour of the week at the site, its median and three usual deviations either way.
 * Hours of which nothing is known are left out; neighbours with the same values are one. */
export function normalOf(
  span: Span,
  zone: string,
  medians: (number | null)[],
  mads: (number | null)[],
): Normal[] {
  const found: Normal[] = [];
  const first = Math.floor(span.from / HALF_HOUR_US) * HALF_HOUR_US;
  for (let us = first; us < span.until; us += HALF_HOUR_US) {
    const local = us + offsetOf(us, zone);
    const weekday = (Math.floor(local / DAY_US) + 3) % 7;
    const hour = weekday * 24 + Math.floor((local % DAY_US) / (2 * HALF_HOUR_US));
    const median = medians[hour] ?? null;
    if (median === null) continue;
    const spread = SPREADS * MAD_TO_SIGMA * (mads[hour] ?? 0);
    const [low, high] = [Math.max(0, median - spread), median + spread];
    const until = Math.min(us + HALF_HOUR_US, span.until);
    const last = found[found.length - 1];
    if (last && last.until === us && last.low === low && last.high === high) last.until = until;
    else found.push({ from: Math.max(us, span.from), until, low, high });
  }
  return found;
}

export interface Span {
  from: number;
  until: number;
}

/** The same middle with another length; not past the newest sample, behind which there is nothing to see. */
export function zoomed(span: Span, length: number, newestUs: number): Span {
  const until = Math.min((span.from + span.until + length) / 2, Math.max(newestUs, span.from));
  return { from: until - length, until };
}

/** Moved by a share of its length; later no further than the newest sample. */
export function moved(span: Span, share: number, newestUs: number): Span {
  const length = span.until - span.from;
  const until = span.until + share * length;
  const end = share > 0 ? Math.max(span.until, Math.min(until, newestUs)) : until;
  return { from: end - length, until: end };
}
