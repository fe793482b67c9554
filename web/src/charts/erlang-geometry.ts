// From the blocking curve to pixels: concurrent calls along, blocked share up.

export interface CurvePoint {
  calls: number;
  blocked_pct: number;
}

export interface Frame {
  width: number;
  height: number;
  left: number;
  right: number;
  top: number;
  bottom: number;
}

export function place(frame: Frame, most: number, point: CurvePoint): [number, number] {
  const across = frame.width - frame.left - frame.right;
  const down = frame.height - frame.top - frame.bottom;
  return [
    frame.left + (across * point.calls) / Math.max(1, most),
    frame.top + down * (1 - point.blocked_pct / 100),
  ];
}

export function line(frame: Frame, points: CurvePoint[]): string {
  const most = points.at(-1)?.calls ?? 1;
  return points
    .map(
      (point, i) =>
        `${i === 0 ? "M" : "L"}${place(frame, most, point)
          .map((v) => v.toFixed(1))
          .join(" ")}`,
    )
    .join("");
}
