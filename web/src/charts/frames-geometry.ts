// Frames of a few seconds side by side: how high each stands, and where.

/** Of a row: a frame that was shown fills it, one that built on something broken half, a broken one is a stump. */
export const ROW = { height: 22, gap: 8, left: 86, right: 60 };
const HEIGHTS: Record<string, number> = { s: ROW.height, o: ROW.height / 2, b: 4 };

export interface Bar {
  x: number;
  width: number;
  height: number;
  fate: string;
}

/** One bar for frames in a row of one fate. */
export function bars(fates: string, width: number): Bar[] {
  const step = Math.max(0, width - ROW.left - ROW.right) / Math.max(1, fates.length);
  const told: Bar[] = [];
  for (let at = 0; at < fates.length; ) {
    const fate = fates[at] ?? "";
    let end = at + 1;
    while (fates[end] === fate) end += 1;
    told.push({ x: ROW.left + at * step, width: (end - at) * step, height: HEIGHTS[fate] ?? 0, fate });
    at = end;
  }
  return told;
}

export function missed(fates: string): number {
  return [...fates].filter((fate) => fate !== "s").length;
}

/** Whole seconds of the stream that lie under the frames, with their place. */
export function seconds(first: number, count: number, framesPerS: number, width: number): [number, number][] {
  const step = Math.max(0, width - ROW.left - ROW.right) / Math.max(1, count);
  const from = Math.ceil(first / framesPerS);
  const until = Math.floor((first + count) / framesPerS);
  return Array.from({ length: Math.max(0, until - from + 1) }, (_, n) => [
    from + n,
    ROW.left + ((from + n) * framesPerS - first) * step,
  ]);
}
