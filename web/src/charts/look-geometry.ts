// From round trips in their order to where they hang below the line, apart from whatever draws them.
export const STRIP = { width: 900, height: 64, top: 6 };
const STEPS = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000];

/** The depth of the strip in ms: the next round number above the longest round trip. */
export function deepOf(rttUs: number[]): number {
  const longest = Math.max(...rttUs, 0) / 1000;
  return STEPS.find((step) => step >= longest) ?? 10_000;
}

export interface Drop {
  x: number;
  /** Of the lower end; null where no answer came. */
  y: number | null;
}

/** A line for each, hanging from the surface as deep as its round trip was long. */
export function dropsOf(rttUs: number[], deepMs: number): Drop[] {
  const step = STRIP.width / Math.max(60, rttUs.length);
  return rttUs.map((us, at) => ({
    x: (at + 0.5) * step,
    y: us < 0 ? null : STRIP.top + Math.max(1, (us / 1000 / deepMs) * (STRIP.height - STRIP.top)),
  }));
}
