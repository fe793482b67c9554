// How many concurrent calls the people need: the share of attempts that find no room, against the room there is.
import type { Model } from "../api/client";
import { fixed, pct, withUnit } from "../ui/format";
import { type Frame, line, place } from "./erlang-geometry";

const FRAME: Frame = { width: 330, height: 128, left: 8, right: 14, top: 20, bottom: 22 };

export function ErlangCurve({ need, accepted }: { need: Model<"Need">; accepted: number }) {
  const most = need.curve.at(-1)?.calls ?? 1;
  const at = need.curve.find((point) => point.calls === need.calls);
  if (!at) return null;
  const [x, y] = place(FRAME, most, at);
  const floor = FRAME.height - FRAME.bottom;
  const words = `${fixed(need.erlangs, 1)} erlangs: with ${need.calls} concurrent calls ${pct(at.blocked_pct, 2)} of attempts are blocked, ${withUnit(accepted, "%")} accepted.`;
  const late = x > FRAME.width * 0.6;
  return (
    <figure>
      <svg viewBox={`0 0 ${FRAME.width} ${FRAME.height}`} className="w-full" role="img" aria-label={words}>
        <path
          d={`${line(FRAME, need.curve)}V${floor}H${FRAME.left}Z`}
          fill="var(--depth-1)"
          fillOpacity={0.55}
        />
        <path d={line(FRAME, need.curve)} fill="none" stroke="var(--ink)" strokeWidth={1.2} />
        <path d={`M${FRAME.left} ${floor}H${FRAME.width - FRAME.right}`} stroke="var(--ink)" />
        <path d={`M${x} ${FRAME.top - 6}V${floor + 4}`} stroke="var(--ink)" strokeDasharray="2 3" />
        <circle cx={x} cy={y} r={3.2} fill="var(--ink)" />
        <g className="fill-ink text-[12px]">
          <text
            x={x + (late ? -6 : 6)}
            y={FRAME.top + 2}
            textAnchor={late ? "end" : "start"}
            className="font-semibold"
          >
            {need.calls} concurrent calls
          </text>
          <text
            x={x + (late ? -6 : 6)}
            y={FRAME.top + 17}
            textAnchor={late ? "end" : "start"}
            className="fill-soft"
          >
            {pct(at.blocked_pct, 2)} blocked
          </text>
          <text x={FRAME.left} y={FRAME.height - 6} className="fill-soft">
            0
          </text>
          <text x={FRAME.width - FRAME.right} y={FRAME.height - 6} textAnchor="end" className="fill-soft">
            {most} calls
          </text>
        </g>
      </svg>
      <figcaption className="text-sm text-soft">
        {fixed(need.erlangs, 1)} erlangs in the busy hour, by Erlang B. Blocked attempts fall from all to none
        as circuits are added.
      </figcaption>
    </figure>
  );
}
