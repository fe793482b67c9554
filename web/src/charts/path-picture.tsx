// The path picture: the site's legs from test point to far end, upload above and download below, painted by what
// calls had there; one leg where calls alone were placed.
import { Link } from "react-router";
import type { Model } from "../api/client";
import { DASH, duration, ms, pct } from "../ui/format";
import { Wide } from "../ui/wide";
import { paintMos } from "./depth";

type Path = Model<"PathView">;
interface Segment {
  name: string;
  up: number | null;
  down: number | null;
  /** What lies at its far side, where that is a place of its own. */
  ends: string;
  says: string;
}

const LEGS: Record<string, [name: string, ends: string]> = {
  inside: ["inside", "gateway"],
  line: ["line", "provider’s edge"],
  beyond: ["beyond", ""],
  "inside or line": ["inside and line", "provider’s edge"],
  unknown: ["whole path", ""],
};

/** Small, for a line of the comparison. */
export function PathThumb({ path }: { path: Path | null }) {
  if (!path) return <span className="text-sm text-soft">not measured</span>;
  return (
    <svg viewBox="0 0 132 30" className="h-[30px] w-[132px]" role="img" aria-label={pathWords(path)}>
      <Legs segments={segmentsOf(path)} x1={11} x2={121} height={8} gap={5} top={4} />
    </svg>
  );
}

/** Large, for the site. */
export function PathPicture({ path, slug }: { path: Path; slug: string }) {
  const segments = segmentsOf(path);
  const [x1, x2] = [150, 930];
  const step = (x2 - x1) / segments.length;
  return (
    <Wide label="Call path">
      <svg data-wide viewBox="0 0 1080 150" className="w-full" role="img" aria-label={pathWords(path)}>
        <Legs segments={segments} x1={x1} x2={x2} height={20} gap={10} top={42} />
        <g className="fill-ink text-[15px]">
          <text x={x1 - 12} y={66} textAnchor="end" className="font-semibold">
            {path.test_point || "probe"}
          </text>
          <text x={x1 - 12} y={84} textAnchor="end" className="fill-soft text-[13px]">
            inside the site
          </text>
          <text x={x2 + 12} y={66} className="font-semibold">
            {path.far_end}
          </text>
          <text x={x2 + 12} y={84} className="fill-soft text-[13px]">
            far end
          </text>
          {segments.length > 1 &&
            segments.map((one, i) => (
              <g key={one.name}>
                <text x={x1 + (i + 0.5) * step} y={16} textAnchor="middle" className="font-semibold">
                  {one.name}
                </text>
                <text x={x1 + (i + 0.5) * step} y={33} textAnchor="middle" className="fill-soft text-[13px]">
                  {one.says}
                </text>
                {one.ends && (
                  <text x={x1 + (i + 1) * step} y={121} textAnchor="middle" className="fill-soft text-[13px]">
                    {one.ends}
                  </text>
                )}
              </g>
            ))}
          {segments.length === 1 && (
            <text x={540} y={20} textAnchor="middle">
              {callWords("Upload", path.up)}
            </text>
          )}
          {segments.length === 1 && (
            <text x={540} y={121} textAnchor="middle">
              {callWords("Download", path.down)}
            </text>
          )}
          <text x={540} y={143} textAnchor="middle" className="fill-soft text-[13px]">
            {foundation(path)}
          </text>
        </g>
      </svg>
      {segments.length > 1 && (
        <p className="text-sm">
          {path.up.mos_p10 !== null && (
            <span>
              Calls over all of it, day and night: {callWords("upload", path.up)};{" "}
              {callWords("download", path.down)}.{" "}
            </span>
          )}
          <Link to={`/sites/${slug}/watch`} className="underline underline-offset-3">
            Its days and minutes
          </Link>
        </p>
      )}
    </Wide>
  );
}

function segmentsOf(path: Path): Segment[] {
  if (!path.watched)
    return [{ name: "whole path", up: path.up.mos_p10, down: path.down.mos_p10, ends: "", says: "" }];
  return path.watched.legs.map((one) => {
    const [name, ends] = LEGS[one.leg] ?? [one.leg, ""];
    const says = one.spoiled_s ? `${duration(one.spoiled_s)} of trouble` : "no trouble";
    return { name, up: one.up_mos, down: one.down_mos, ends, says };
  });
}

function Legs(props: {
  segments: Segment[];
  x1: number;
  x2: number;
  height: number;
  gap: number;
  top: number;
}) {
  const { segments, x1, x2, height, gap, top } = props;
  const step = (x2 - x1) / segments.length;
  const posts = segments.map((one, i) => ({ name: one.name, x: x1 + (i + 1) * step }));
  const bottom = top + 2 * height + gap;
  return (
    <>
      {segments.flatMap((one, i) =>
        (["up", "down"] as const).map((side, k) => {
          const [from, to] = [x1 + i * step, x1 + (i + 1) * step];
          const y = top + k * (height + gap);
          return (
            <path
              key={`${one.name} ${side}`}
              d={side === "up" ? arrow(from, to, y, height) : arrow(to, from, y, height)}
              fill={paintMos(one[side])}
              stroke="var(--ink)"
              strokeWidth={0.9}
            />
          );
        }),
      )}
      {[{ name: "test point", x: x1 }, ...posts].map(({ name, x }) => (
        <path
          key={name}
          d={`M${x} ${top - gap}V${bottom + gap}`}
          stroke="var(--ink)"
          strokeWidth={x === x1 || x === x2 ? 2.5 : 1.2}
        />
      ))}
    </>
  );
}

/** A bar that points the way the packets go. */
function arrow(from: number, to: number, y: number, height: number): string {
  const tip = Math.sign(to - from) * height * 0.7;
  return `M${from} ${y}H${to - tip}L${to} ${y + height / 2}L${to - tip} ${y + height}H${from}Z`;
}

function callWords(name: string, leg: Path["up"]): string {
  if (leg.mos_p10 === null) return `${name}: ${DASH}`;
  return `${name}: ${pct(leg.loss_pct, 2)} lost · up to ${ms(leg.added_p95_ms)} added · 10th-percentile MOS ${leg.mos_p10.toFixed(2)}`;
}

/** What the paint rests on. */
function foundation(path: Path): string {
  const { watched } = path;
  if (!watched)
    return "inside, line and beyond as one leg: they are not told apart until gateway and provider’s edge are sampled";
  const hours = watched.in_business_hours ? "of business hours" : "of all hours: none in business hours";
  const untold = watched.untold_s
    ? ` · ${duration(watched.untold_s)} of trouble on a leg that could not be told`
    : "";
  return `painted by the worst tenth of ${watched.moments} ten-minute moments ${hours}, from the watch${untold}`;
}

function pathWords(path: Path): string {
  const calls = `${callWords("Upload", path.up)}. ${callWords("Download", path.down)}.`;
  if (!path.watched) return calls;
  const legs = path.watched.legs.map(
    (one) =>
      `${LEGS[one.leg]?.[0] ?? one.leg}: up ${one.up_mos.toFixed(2)} MOS, down ${one.down_mos.toFixed(2)} MOS`,
  );
  return `${legs.join("; ")}. ${calls}`;
}
