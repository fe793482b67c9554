// From a place's echoes to a bar on a scale that all places share, apart from whatever draws it.
export interface Echoes {
  sent: number;
  answered: number;
  lost: number;
  median_ms: number | null;
  p95_ms: number | null;
  packet_bytes: number;
}

export const BAR = { width: 220, height: 26 };
const STEPS = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000];

/** The end of the scale: the next round number above the longest 95th percentile, 10 ms at least. */
export function endOf(all: (Echoes | null)[]): number {
  const longest = all.reduce((most, one) => Math.max(most, one?.p95_ms ?? 0), 0);
  return STEPS.find((step) => step >= Math.max(10, longest)) ?? 10_000;
}

/** From the median to the 95th percentile, at least a hair wide; null of nothing. */
export function barOf(one: Echoes | null, endMs: number): { x: number; width: number } | null {
  if (!one || one.median_ms === null || one.p95_ms === null) return null;
  const x = (Math.min(one.median_ms, endMs) / endMs) * BAR.width;
  const end = (Math.min(one.p95_ms, endMs) / endMs) * BAR.width;
  return { x, width: Math.max(2, end - x) };
}

/** Loss of those whose time is up, in per cent; null where too few are. */
export function lossOf(one: Echoes | null): number | null {
  if (!one) return null;
  const over = one.answered + one.lost;
  return over >= 20 ? (100 * one.lost) / over : null;
}
