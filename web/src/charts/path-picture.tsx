// The path picture: the site's way from test point to far end, up above and down below, painted by what each adds.
import type { Model } from "../api/client";
import { DASH, ms, pct } from "../ui/format";
import { Wide } from "../ui/wide";
import { paintMos } from "./depth";

type Path = Model<"PathView">;

/** Small, for a line of the comparison. */
export function PathThumb({ path }: { path: Path | null }) {
  if (!path) return <span className="text-sm text-soft">not measured</span>;
  return (
    <svg viewBox="0 0 132 30" className="h-[30px] w-[132px]" role="img" aria-label={pathWords(path)}>
      <Legs path={path} x1={11} x2={121} height={8} gap={5} top={4} />
      <Posts x1={11} x2={121} top={2} bottom={28} />
    </svg>
  );
}

/** Large, for the site. */
export function PathPicture({ path }: { path: Path }) {
  return (
    <Wide label="Call path">
      <svg data-wide viewBox="0 0 1080 128" className="w-full" role="img" aria-label={pathWords(path)}>
        <Legs path={path} x1={150} x2={930} height={20} gap={10} top={30} />
        <Posts x1={150} x2={930} top={18} bottom={96} />
        <g className="fill-ink text-[15px]">
          <text x={138} y={54} textAnchor="end" className="font-semibold">
            {path.test_point || "probe"}
          </text>
          <text x={138} y={72} textAnchor="end" className="fill-soft text-[13px]">
            inside the site
          </text>
          <text x={942} y={54} className="font-semibold">
            {path.far_end}
          </text>
          <text x={942} y={72} className="fill-soft text-[13px]">
            far end
          </text>
          <text x={540} y={20} textAnchor="middle">
            {legWords("Upload", path.up)}
          </text>
          <text x={540} y={104} textAnchor="middle">
            {legWords("Download", path.down)}
          </text>
          <text x={540} y={123} textAnchor="middle" className="fill-soft text-[13px]">
            inside, line and beyond as one leg: they are not told apart until gateway and provider’s edge are
            sampled
          </text>
        </g>
      </svg>
    </Wide>
  );
}

function Legs(props: { path: Path; x1: number; x2: number; height: number; gap: number; top: number }) {
  const { path, x1, x2, height, gap, top } = props;
  return (
    <>
      {(["up", "down"] as const).map((side, i) => {
        const y = top + i * (height + gap);
        return (
          <path
            key={side}
            d={side === "up" ? arrow(x1, x2, y, height) : arrow(x2, x1, y, height)}
            fill={paintMos(path[side].mos_p10)}
            stroke="var(--ink)"
            strokeWidth={0.9}
          />
        );
      })}
    </>
  );
}

/** A bar that points the way the packets go. */
function arrow(from: number, to: number, y: number, height: number): string {
  const tip = Math.sign(to - from) * height * 0.7;
  return `M${from} ${y}H${to - tip}L${to} ${y + height / 2}L${to - tip} ${y + height}H${from}Z`;
}

function Posts({ x1, x2, top, bottom }: { x1: number; x2: number; top: number; bottom: number }) {
  return <path d={`M${x1} ${top}V${bottom}M${x2} ${top}V${bottom}`} stroke="var(--ink)" strokeWidth={2.5} />;
}

function legWords(name: string, leg: Path["up"]): string {
  if (leg.mos_p10 === null) return `${name}: ${DASH}`;
  return `${name}: ${pct(leg.loss_pct, 2)} lost · up to ${ms(leg.added_p95_ms)} added · 10th-percentile MOS ${leg.mos_p10.toFixed(2)}`;
}

function pathWords(path: Path): string {
  return `${legWords("Upload", path.up)}. ${legWords("Download", path.down)}.`;
}
