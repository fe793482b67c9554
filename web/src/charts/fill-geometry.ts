// From a filled line's tenths of a second to what hangs below the line, apart from whatever draws it.
import type { Model } from "../api/client";

export type Side = "up" | "down";
type Instant = Model<"Instant">;

export const FILL = { left: 74, right: 66, top: 26, tier: 128, gap: 54, strip: 9 };
const STEPS = [5, 10, 20, 50, 100, 200, 500, 1000, 2000];

export interface Scale {
  endS: number;
  /** Added delay at the bottom of a tier. */
  deepMs: number;
  ticks: number[];
}

/** One scale for both directions, so that they can be compared; at least 20 ms deep. */
export function scaleOf(instants: Instant[]): Scale {
  const deepest = instants.reduce(
    (most, one) =>
      Math.max(most, one.up_ms ?? 0, one.down_ms ?? 0, one.up_marked_ms ?? 0, one.down_marked_ms ?? 0),
    0,
  );
  const deepMs = Math.max(20, deepest * 1.04);
  const step = STEPS.find((s) => deepMs / s <= 3.5) ?? 5000;
  const ticks = Array.from({ length: Math.floor(deepMs / step) + 1 }, (_, i) => i * step);
  return { endS: Math.max(1, (instants.at(-1)?.at_s ?? 0) + 0.1), deepMs, ticks };
}

export function xOf(scale: Scale, seconds: number, width: number): number {
  return FILL.left + (seconds / scale.endS) * (width - FILL.left - FILL.right);
}

/** Where the surface of a direction lies. */
export function surfaceOf(side: Side): number {
  return FILL.top + (side === "up" ? 0 : FILL.tier + FILL.gap);
}

export function depthOf(scale: Scale, ms: number): number {
  return (Math.min(ms, scale.deepMs) / scale.deepMs) * FILL.tier;
}

export interface Sounding {
  x: number;
  width: number;
  depth: number;
  mos: number | null;
}

/** The unmarked call's delays of a direction, each with its second's quality. */
export function soundingsOf(
  instants: Instant[],
  seconds: Model<"SecondMos">[],
  side: Side,
  width: number,
): Sounding[] {
  const scale = scaleOf(instants);
  const each = xOf(scale, 0.1, width) - xOf(scale, 0, width);
  return instants.flatMap((one) => {
    const ms = side === "up" ? one.up_ms : one.down_ms;
    if (ms === null) return [];
    const mos = seconds[Math.floor(one.at_s)]?.[side] ?? null;
    return [{ x: xOf(scale, one.at_s, width), width: each, depth: depthOf(scale, ms), mos }];
  });
}

/** Whether a marked call was held beside the streams: a browser cannot mark. One that never arrived has its seconds too. */
export function holdsMarked(seconds: Model<"SecondMos">[]): boolean {
  return seconds.some((one) => one.up_marked !== null || one.down_marked !== null);
}

/** The marked call's delays as a line; gaps where nothing of it arrived. */
export function markedLine(instants: Instant[], side: Side, width: number): string {
  const scale = scaleOf(instants);
  let pen = "M";
  return instants
    .map((one) => {
      const ms = side === "up" ? one.up_marked_ms : one.down_marked_ms;
      if (ms === null) {
        pen = "M";
        return "";
      }
      const step = `${pen}${xOf(scale, one.at_s, width).toFixed(1)} ${(surfaceOf(side) + depthOf(scale, ms)).toFixed(1)}`;
      pen = "L";
      return step;
    })
    .join("");
}
