// Packets of each second in one direction: those that left, those that came, and the lost, which hang from the line.
import type { Model } from "../api/client";
import { withUnit } from "../ui/format";
import { Wide } from "../ui/wide";
import { FLOW, missingOf, stepsOf, topOf, xOf, yOf } from "./flow-geometry";

export function FlowSteps({ name, figures }: { name: string; figures: Model<"FlowFigures"> }) {
  const { sent_per_s: sent, arrived_per_s: came, lost_per_s: lost } = figures;
  const seconds = sent.length;
  const top = topOf(sent, came);
  return (
    <Wide label={`${name}, packets of each second`}>
      <svg
        data-wide
        viewBox={`0 -6 ${FLOW.width} ${FLOW.height + 28}`}
        className="mt-1 w-full"
        role="img"
        aria-label={`${name}: packets of each second, sent ${sent.join(", ")}; arrived ${came.join(", ")}; lost ${lost.join(", ")}`}
      >
        {[0, top / 2, top].map((count) => (
          <g key={count}>
            <path
              d={`M${FLOW.left} ${yOf(count, top)}H${FLOW.width - FLOW.right}`}
              stroke={count === 0 ? "var(--ink)" : "var(--hair)"}
            />
            <text x={FLOW.width - FLOW.right + 8} y={yOf(count, top) + 4} className="fill-soft text-[13px]">
              {count === top ? `${count} a second` : count}
            </text>
          </g>
        ))}
        <path d={missingOf(sent, lost, seconds, top)} fill="var(--depth-4)" />
        <path d={stepsOf(sent, seconds, top)} fill="none" stroke="var(--soft)" strokeDasharray="3 3" />
        <path d={stepsOf(came, seconds, top)} fill="none" stroke="var(--ink)" strokeWidth={2} />
        {[0, seconds].map((second) => (
          <text
            key={second}
            x={xOf(second, seconds)}
            y={FLOW.height + 16}
            textAnchor={second === 0 ? "start" : "end"}
            className="fill-soft text-[13px]"
          >
            {withUnit(second, "s")}
          </text>
        ))}
      </svg>
    </Wide>
  );
}
