// From a stream's seconds to what hangs below the line, and how time is marked, apart from whatever draws it.
import type { Model } from "../api/client";

export const SOUNDINGS = { left: 34, right: 70, top: 14, height: 150 };

export interface Sounding {
  /** Its place among the stretches. */
  number: number;
  x: number;
  width: number;
  depth: number;
  /** Of the worst second's frames that were not shown. */
  share: number;
  words: string;
}

type Stretches = Pick<Model<"PictureSide">, "seconds" | "stretch_s" | "stretches">;

/** Stretches that lack nothing hang nothing. */
export function soundings(side: Stretches, framesPerSecond: number, width: number): Sounding[] {
  const { left, right, height } = SOUNDINGS;
  const second = Math.max(0, width - left - right) / Math.max(1, side.seconds);
  const each = second * side.stretch_s;
  return side.stretches.flatMap((one, number) => {
    const lacking = one.frames - one.shown;
    if (lacking === 0) return [];
    const share = Math.min(1, lacking / framesPerSecond);
    const [worst, all] = side.stretch_s > 1 ? [", in its worst second", "in all "] : ["", ""];
    const words = `${stretchName(number, side.stretch_s, side.seconds)}${worst}: ${one.shown} of ${one.frames} frames shown; ${all}${one.broken} broken, ${one.lost} packets lost, ${one.late} late`;
    return [
      {
        number,
        x: left + number * each,
        width: Math.max(
          1,
          Math.min(each, left + side.seconds * second - (left + number * each)) - (each > 4 ? 1 : 0),
        ),
        depth: share * height,
        share,
        words,
      },
    ];
  });
}

/** Which seconds of a call or stream a stretch is: "second 12", or "1:05:00 to 1:06:00". */
export function stretchName(number: number, lengthS: number, seconds: number): string {
  if (lengthS === 1) return `second ${number + 1}`;
  return `${stretchTime(number * lengthS, seconds)} to ${stretchTime(Math.min(seconds, (number + 1) * lengthS), seconds)}`;
}

function stretchTime(at: number, seconds: number): string {
  const two = (value: number) => String(value).padStart(2, "0");
  const minutes = Math.floor(at / 60);
  if (seconds < 3600) return `${minutes}:${two(at % 60)}`;
  return `${Math.floor(minutes / 60)}:${two(minutes % 60)}:${two(at % 60)}`;
}

const LONG_S = 600;
const STEPS_S = [120, 300, 600, 900, 1800, 3600, 7200, 14_400, 43_200, 86_400];

export function timeMarks(seconds: number): number[] {
  const long = STEPS_S.find((step) => seconds / step <= 10) ?? 86_400;
  const step = seconds > LONG_S ? long : seconds > 90 ? 30 : seconds > 25 ? 10 : 5;
  return Array.from({ length: Math.floor(seconds / step) + 1 }, (_, i) => i * step);
}

/** In seconds, or in minutes of what is long; the first says which. */
export function markWords(at: number, seconds: number): string {
  if (seconds <= LONG_S) return at === 0 ? "0\u00a0s" : String(at);
  return at === 0 ? "0\u00a0min" : String(at / 60);
}
