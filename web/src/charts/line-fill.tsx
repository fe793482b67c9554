// A filled line: delay hangs below the surface of each direction, painted by what the call had; the marked call is a line.
import type { Model } from "../api/client";
import { withUnit } from "../ui/format";
import { Wide } from "../ui/wide";
import { paintMos } from "./depth";
import {
  depthOf,
  FILL,
  holdsMarked,
  markedLine,
  type Side,
  scaleOf,
  soundingsOf,
  surfaceOf,
  xOf,
} from "./fill-geometry";

const W = 1080;
const H = FILL.top + 2 * FILL.tier + FILL.gap + 44;
const WAYS = { idle: "calls alone", up: "upload full", down: "download full", both: "both full" } as const;
const SIDES: [Side, string][] = [
  ["up", "Upload"],
  ["down", "Download"],
];

export function LineFill({ filled }: { filled: Model<"LineFilled"> }) {
  const { instants, seconds, phases } = filled;
  const scale = scaleOf(instants);
  const marked = holdsMarked(seconds);
  const x = (at: number) => xOf(scale, at, W);
  return (
    <Wide label="Delay and quality while the line was filled">
      <svg
        data-wide
        viewBox={`0 0 ${W} ${H}`}
        className="mt-4 w-full"
        role="img"
        aria-label={`Delay of calls while the line was idle and full. ${filled.says.join(" ")}`}
      >
        {phases.map((phase) => (
          <g key={phase.way}>
            <path
              d={`M${x(phase.from_s)} 18V${FILL.top - 2}M${x(phase.until_s)} 18V${FILL.top - 2}M${x(phase.from_s)} 18H${x(phase.until_s)}`}
              fill="none"
              stroke="var(--soft)"
            />
            <text
              x={(x(phase.from_s) + x(phase.until_s)) / 2}
              y={12}
              textAnchor="middle"
              className="fill-ink text-[13px]"
            >
              {WAYS[phase.way]}
            </text>
          </g>
        ))}
        {SIDES.map(([side, name]) => {
          const surface = surfaceOf(side);
          const strip = surface + FILL.tier + 6;
          return (
            <g key={side}>
              <text x={0} y={surface + 12} className="fill-ink text-[13px] font-semibold">
                {name}
              </text>
              {scale.ticks.map((tick) => (
                <g key={tick}>
                  <path
                    d={`M${FILL.left} ${surface + depthOf(scale, tick)}H${W - FILL.right}`}
                    stroke={tick === 0 ? "var(--ink)" : "var(--hair)"}
                  />
                  <text
                    x={W - FILL.right + 8}
                    y={surface + depthOf(scale, tick) + 4}
                    className="fill-soft text-[12px]"
                  >
                    {tick === 0 ? "0" : `+${withUnit(tick, "ms")}`}
                  </text>
                </g>
              ))}
              {soundingsOf(instants, seconds, side, W).map((one) => (
                <rect
                  key={one.x}
                  x={one.x}
                  y={surface}
                  width={Math.max(0.8, one.width - 0.3)}
                  height={Math.max(1, one.depth)}
                  fill={paintMos(one.mos)}
                />
              ))}
              <path d={markedLine(instants, side, W)} fill="none" stroke="var(--ink)" strokeWidth={1.3} />
              <Quality
                seconds={seconds}
                side={side}
                y={strip}
                x={x}
                marked={false}
                name={marked ? "unmarked" : "MOS"}
              />
              {marked && (
                <Quality
                  seconds={seconds}
                  side={side}
                  y={strip + FILL.strip + 2}
                  x={x}
                  marked
                  name="marked"
                />
              )}
            </g>
          );
        })}
        <text x={FILL.left} y={H - 3} className="fill-soft text-[12px]">
          0 s
        </text>
        <text x={W - FILL.right} y={H - 3} textAnchor="end" className="fill-soft text-[12px]">
          {withUnit(Math.round(scale.endS), "s")}
        </text>
      </svg>
      <p className="mt-1 text-sm text-soft">
        {marked
          ? "Hanging: how much longer packets of the call without marking took, painted by its quality. Line: the call marked EF. Strips: each second’s quality, unmarked above marked."
          : "Hanging: how much longer packets of the call took, which had no marking, painted by its quality. Strip: each second’s quality."}
      </p>
    </Wide>
  );
}

function Quality(props: {
  seconds: Model<"SecondMos">[];
  side: Side;
  marked: boolean;
  name: string;
  y: number;
  x: (at: number) => number;
}) {
  const { seconds, side, marked, name, y, x } = props;
  return (
    <>
      <text x={FILL.left - 6} y={y + 9} textAnchor="end" className="fill-soft text-[11px]">
        {name}
      </text>
      {seconds.map((one) => {
        const mos = marked ? (side === "up" ? one.up_marked : one.down_marked) : one[side];
        if (mos === null) return null;
        return (
          <rect
            key={one.at_s}
            x={x(one.at_s)}
            y={y}
            width={Math.max(0.5, x(one.at_s + 1) - x(one.at_s) - 0.6)}
            height={FILL.strip}
            fill={paintMos(mos)}
          >
            <title>{`second ${one.at_s + 1}: ${mos.toFixed(2)} MOS`}</title>
          </rect>
        );
      })}
    </>
  );
}
