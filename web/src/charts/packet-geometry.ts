// From packets to pixels, apart from whatever draws them.
import type { Model } from "../api/client";

export interface Frame {
  left: number;
  right: number;
  top: number;
  bottom: number;
  endMs: number;
  topMs: number;
  ticks: number[];
}

const LEFT = 36;
const RIGHT = 64;
const RAIL = 22;
const STEPS = [10, 20, 50, 100, 200, 500, 1000, 2000];

/** The plot's frame: time left to right, delay above the fastest packet upwards, room for the lost on top. */
export function frameOf(
  packets: Model<"PacketPoint">[],
  bufferMs: number,
  width: number,
  height: number,
): Frame {
  const worst = packets.reduce((most, p) => Math.max(most, p.pdv_ms ?? 0), 0);
  const topMs = Math.max(20, bufferMs * 1.15, worst * 1.05);
  const step = STEPS.find((s) => topMs / s <= 5) ?? 5000;
  const ticks = Array.from({ length: Math.floor(topMs / step) + 1 }, (_, i) => i * step);
  const endMs = Math.max(1000, packets.at(-1)?.at_ms ?? 0);
  return { left: LEFT, right: width - RIGHT, top: RAIL, bottom: height - 8, endMs, topMs, ticks };
}

export function xOf(frame: Frame, atMs: number): number {
  return frame.left + (atMs / frame.endMs) * (frame.right - frame.left);
}

export function yOf(frame: Frame, pdvMs: number): number {
  return frame.bottom - (Math.min(pdvMs, frame.topMs) / frame.topMs) * (frame.bottom - frame.top);
}
