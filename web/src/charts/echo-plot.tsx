// Round trips in time; on the rail at the top what nobody answered.
import type { Model } from "../api/client";
import { duration, withUnit } from "../ui/format";
import { Wide } from "../ui/wide";

const W = 1080;
const H = 220;
const LEFT = 44;
const RAIL = 22;
const FLOOR = H - 22;

export function EchoPlot({ echo }: { echo: Model<"EchoView"> }) {
  const end = Math.max(1, echo.points.at(-1)?.[0] ?? 1);
  const top = Math.max(1, (echo.rtt_max_ms ?? 1) * 1.05);
  const x = (at: number) => LEFT + ((W - LEFT - 4) * at) / end;
  const y = (rtt: number) => FLOOR - ((FLOOR - RAIL) * rtt) / top;
  const known = echo.points.filter((p): p is [number, number] => p[1] !== null);
  const silent = echo.points.filter((p) => p[1] === null);
  return (
    <Wide label="Echoes in time">
      <svg
        data-wide
        viewBox={`0 0 ${W} ${H}`}
        className="mt-4 w-full"
        role="img"
        aria-label={`${echo.sent} echoes over ${duration(end)}, ${echo.lost} unanswered`}
      >
        <g className="fill-soft text-[12px]">
          <text x={LEFT - 6} y={RAIL + 8} textAnchor="end">
            {withUnit(Math.round(top), "ms")}
          </text>
          <text x={LEFT - 6} y={FLOOR} textAnchor="end">
            0
          </text>
          <text x={LEFT - 6} y={11} textAnchor="end">
            none
          </text>
          <text x={LEFT} y={H - 4}>
            0 s
          </text>
          <text x={W - 4} y={H - 4} textAnchor="end">
            {duration(end)}
          </text>
        </g>
        <path d={`M${LEFT} ${FLOOR}H${W - 4}`} stroke="var(--ink)" />
        <path
          d={known.map(([at, rtt]) => `M${x(at).toFixed(1)} ${FLOOR}V${y(rtt).toFixed(1)}`).join("")}
          stroke="var(--depth-3)"
          strokeWidth={Math.max(0.8, Math.min(4, (W - LEFT) / Math.max(1, echo.points.length) - 0.5))}
        />
        <path
          d={silent.map(([at]) => `M${x(at).toFixed(1)} 2V${RAIL - 6}`).join("")}
          stroke="var(--depth-5)"
          strokeWidth={1.6}
        />
      </svg>
    </Wide>
  );
}
