// What a viewer saw, frame by frame: as it was sent, as it came, and as it would have come with media sent first.
import type { Model } from "../api/client";
import { withUnit } from "../ui/format";
import { bars, missed, ROW, seconds } from "./frames-geometry";
import { useWidth } from "./use-width";

const FILLS: Record<string, string> = { s: "var(--depth-2)", o: "var(--depth-3)", b: "var(--depth-5)" };

interface Props {
  strip: Model<"FrameStrip">;
  framesPerSecond: number;
  /** Of the direction. */
  label: string;
}

export function FrameStrip({ strip, framesPerSecond, label }: Props) {
  const { box, width } = useWidth();
  const count = strip.came.length;
  const rows: [string, string][] = [
    ["As sent", "s".repeat(count)],
    ["As it came", strip.came],
  ];
  if (strip.media_first !== null) rows.push(["Media first", strip.media_first]);
  const first = strip.media_first === null ? "" : `; with media first, ${missed(strip.media_first)}`;
  const says = `${missed(strip.came)} of ${count} frames were not shown${first}.`;
  const step = ROW.height + ROW.gap;
  return (
    <div ref={box} className="mt-4">
      <p className="text-sm">
        <span className="font-semibold">What a viewer saw</span>, frame by frame, where most was missing:{" "}
        {says}
      </p>
      <svg
        width="100%"
        height={rows.length * step + 20}
        role="img"
        aria-label={`${label}, frame by frame: ${says}`}
        className="mt-1 block"
      >
        {rows.map(([name, fates], number) => (
          <g key={name} transform={`translate(0 ${number * step})`}>
            <text x={ROW.left - 8} y={ROW.height - 5} textAnchor="end" className="fill-ink text-[12.5px]">
              {name}
            </text>
            {bars(fates, width).map((one) => (
              <rect
                key={one.x}
                x={one.x}
                y={ROW.height - one.height}
                width={one.width}
                height={one.height}
                fill={FILLS[one.fate]}
              />
            ))}
            <path
              d={`M${ROW.left} ${ROW.height + 0.5}H${Math.max(ROW.left, width - ROW.right)}`}
              stroke="var(--hair)"
            />
          </g>
        ))}
        {seconds(strip.first, count, framesPerSecond, width).map(([second, x]) => (
          <text
            key={second}
            x={x}
            y={rows.length * step + 10}
            textAnchor="middle"
            className="fill-soft text-[12.5px]"
          >
            {withUnit(second, "s")}
          </text>
        ))}
      </svg>
      <p className="pl-[86px] text-sm text-soft">
        Full: shown. Half: it came whole and built on something broken. A stump: broken.
        {first && " Media first: as What if has it, whatever leg the queue is on."}
      </p>
    </div>
  );
}
