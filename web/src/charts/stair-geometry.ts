// The staircase: concurrent calls along, share of acceptable calls up.

export const STAIRS = { width: 1080, height: 250, left: 54, right: 150, top: 18, bottom: 40 } as const;

export interface Stair {
  /** Middle of the step. */
  x: number;
  width: number;
  y: number | null;
  low: number;
  high: number;
}

export function shareY(pct: number): number {
  const down = STAIRS.height - STAIRS.top - STAIRS.bottom;
  return STAIRS.top + down * (1 - pct / 100);
}

export function stairs(steps: { pct: number | null; low_pct: number; high_pct: number }[]): Stair[] {
  const each = (STAIRS.width - STAIRS.left - STAIRS.right) / Math.max(1, steps.length);
  return steps.map((step, i) => ({
    x: STAIRS.left + each * (i + 0.5),
    width: each,
    y: step.pct === null ? null : shareY(step.pct),
    low: shareY(step.low_pct),
    high: shareY(step.high_pct),
  }));
}
