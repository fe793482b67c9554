// How many calls the site sustains: each step's share of acceptable calls with its 95 % interval, against what is asked.
import type { Model } from "../api/client";
import { withUnit } from "../ui/format";
import { Wide } from "../ui/wide";
import { STAIRS, shareY, stairs } from "./stair-geometry";

type Page = Model<"SeriesPage">;

export function Staircase({ page }: { page: Page }) {
  const placed = stairs(page.steps);
  const asked = shareY(page.required_share_pct);
  const right = STAIRS.width - STAIRS.right;
  const floor = STAIRS.height - STAIRS.bottom;
  const needed = page.steps.findIndex((step) => step.calls_at_once >= page.needed_calls);
  const neededX = placed[needed]?.x;
  const words = page.steps
    .filter((step) => step.pct !== null)
    .map((step) => `${step.calls_at_once} concurrent calls: ${step.good} of ${step.calls} acceptable`)
    .join("; ");
  return (
    <Wide label="Staircase">
      <svg
        data-wide
        viewBox={`0 0 ${STAIRS.width} ${STAIRS.height}`}
        className="w-full"
        role="img"
        aria-label={words || "No step yet"}
      >
        <g className="fill-soft text-[13px]">
          {[0, 50, 100].map((pct) => (
            <text key={pct} x={STAIRS.left - 8} y={shareY(pct) + 4} textAnchor="end">
              {withUnit(pct, "%")}
            </text>
          ))}
        </g>
        <path d={`M${STAIRS.left} ${floor}H${right}`} stroke="var(--ink)" />
        <path d={`M${STAIRS.left} ${asked}H${right}`} stroke="var(--ink)" strokeDasharray="5 4" />
        <text x={right + 8} y={asked + 4} className="fill-ink text-[13px]">
          {withUnit(page.required_share_pct, "%")} required
        </text>
        {neededX !== undefined && (
          <>
            <path d={`M${neededX} ${STAIRS.top - 8}V${floor}`} stroke="var(--ink)" strokeDasharray="1 3" />
            <text x={neededX + 5} y={STAIRS.top - 6} className="fill-soft text-[12px]">
              {page.needed_calls} needed
            </text>
          </>
        )}
        {page.steps.map((step, i) => {
          const at = placed[i];
          if (!at) return null;
          const wide = Math.min(46, at.width * 0.72);
          return (
            <g key={step.calls_at_once}>
              {at.y !== null && (
                <>
                  <rect
                    x={at.x - wide / 2}
                    y={at.y}
                    width={wide}
                    height={Math.max(0, floor - at.y)}
                    fill={step.passes ? "var(--depth-1)" : "var(--depth-4)"}
                  />
                  <path d={`M${at.x - wide / 2} ${at.y}h${wide}`} stroke="var(--ink)" strokeWidth={2.4} />
                  <path
                    d={`M${at.x} ${at.high}V${at.low}M${at.x - 5} ${at.high}h10M${at.x - 5} ${at.low}h10`}
                    stroke="var(--ink)"
                    fill="none"
                  />
                </>
              )}
              {step.forming_good !== null && (
                <rect
                  x={at.x - wide / 2}
                  y={shareY((100 * step.forming_good) / step.forming_calls)}
                  width={wide}
                  height={floor - shareY((100 * step.forming_good) / step.forming_calls)}
                  fill="none"
                  stroke="var(--ink)"
                  strokeDasharray="3 3"
                />
              )}
              {step.state === "running" && (
                <path d={`M${at.x - wide / 2} ${floor - 6}h${wide}`} stroke="var(--ink)" strokeWidth={5} />
              )}
              {(page.steps.length <= 24 || i % Math.ceil(page.steps.length / 24) === 0) && (
                <text x={at.x} y={floor + 17} textAnchor="middle" className="fill-ink text-[13px]">
                  {step.calls_at_once}
                </text>
              )}
            </g>
          );
        })}
        <text
          x={(STAIRS.left + right) / 2}
          y={STAIRS.height - 5}
          textAnchor="middle"
          className="fill-soft text-[13px]"
        >
          concurrent calls
        </text>
      </svg>
    </Wide>
  );
}
