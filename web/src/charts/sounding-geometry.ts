// From a stream's seconds to what hangs below the line, apart from whatever draws it.
import type { Model } from "../api/client";

export const SOUNDINGS = { left: 34, right: 70, top: 14, height: 150 };

export interface Sounding {
  second: number;
  x: number;
  width: number;
  depth: number;
  /** Of the second's frames that were not shown. */
  share: number;
  words: string;
}

/** Seconds that lack nothing hang nothing. */
export function soundings(
  seconds: Model<"PictureSecond">[],
  framesPerSecond: number,
  width: number,
): Sounding[] {
  const { left, right, height } = SOUNDINGS;
  const each = Math.max(0, width - left - right) / Math.max(1, seconds.length);
  return seconds.flatMap((second, i) => {
    const lacking = second.frames - second.shown;
    if (lacking === 0) return [];
    const share = Math.min(1, lacking / framesPerSecond);
    const words = `second ${i + 1}: ${second.shown} of ${second.frames} frames shown, ${second.broken} broken, ${second.lost} packets lost, ${second.late} late`;
    return [
      {
        second: i,
        x: left + i * each,
        width: Math.max(1, each - (each > 4 ? 1 : 0)),
        depth: share * height,
        share,
        words,
      },
    ];
  });
}

export function timeMarks(seconds: number): number[] {
  const step = seconds > 600 ? 120 : seconds > 90 ? 30 : seconds > 25 ? 10 : 5;
  return Array.from({ length: Math.floor(seconds / step) + 1 }, (_, i) => i * step);
}
