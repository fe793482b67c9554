// Where an hour of a week hangs, and how deep.
import { depthOfMos } from "./depth";

const HOUR_US = 3_600_000_000;
const WIDTH = 2;

export function sounding(hour: { at_us: number; mos: number }, from: number): { x: number; depth: number } {
  return { x: (WIDTH * (hour.at_us - from)) / HOUR_US, depth: depthOfMos(hour.mos) };
}
