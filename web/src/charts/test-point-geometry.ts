// Where test points, the WAN edge and far ends stand along the path picture.

export const STAGE = { width: 1080, height: 142, line: 62, cloud: 850 } as const;

const FIRST = 90;
const LAST = 780;
const ROW = 30;

export interface Stations {
  testPoints: number[];
  wayOut: number;
  ends: number[];
}

/** Positions for test points in their order, each inside or outside the WAN edge, and for so many far ends. */
export function stations(outside: boolean[], farEnds: number): Stations {
  const inside = outside.filter((is) => !is).length;
  const beyond = outside.length - inside;
  const wayOut = beyond > 0 ? 560 : 620;
  const step = (wayOut - FIRST) / Math.max(1, inside);
  const far = (LAST - wayOut) / (beyond + 1);
  let i = 0;
  let j = 0;
  const testPoints = outside.map((is) => (is ? wayOut + far * ++j : FIRST + step * i++));
  const row = Math.min(ROW, (STAGE.height - 30) / Math.max(1, farEnds - 1));
  const top = STAGE.line - ((farEnds - 1) * row) / 2;
  return { testPoints, wayOut, ends: Array.from({ length: farEnds }, (_, n) => Math.max(12, top) + n * row) };
}
