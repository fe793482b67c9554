// A line of soundings: from the water line of a full second, each second, or the worst of each stretch, hangs as deep as
// the frames it lacks.
import type { Model } from "../api/client";
import { duration } from "../ui/format";
import { paint } from "./depth";
import { markWords, SOUNDINGS, soundings, timeMarks } from "./sounding-geometry";
import { useWidth } from "./use-width";

interface Props {
  side: Model<"PictureSide">;
  framesPerSecond: number;
  label: string;
}

export function MissingFrames({ side, framesPerSecond, label }: Props) {
  const { box, width } = useWidth();
  const { top, height, left, right } = SOUNDINGS;
  const hung = soundings(side, framesPerSecond, width);
  const end = width - right;
  return (
    <div ref={box}>
      <svg width="100%" height={height + top + 26} role="img" aria-label={label} className="block">
        <text x={left - 6} y={top + 4} textAnchor="end" className="fill-ink text-[12.5px]">
          {framesPerSecond}
        </text>
        <text x={left - 6} y={top + height + 4} textAnchor="end" className="fill-soft text-[12.5px]">
          0
        </text>
        <text x={end + 8} y={top + 4} className="fill-ink text-[12.5px]">
          all shown
        </text>
        <text x={end + 8} y={top + height + 4} className="fill-soft text-[12.5px]">
          none
        </text>
        <path d={`M${left} ${top + height + 0.5}H${Math.max(left, end)}`} stroke="var(--hair)" />
        {hung.map((one) => (
          <rect
            key={one.number}
            x={one.x}
            y={top}
            width={one.width}
            height={one.depth}
            fill={paint(0.25 + 0.75 * one.share)}
          >
            <title>{one.words}</title>
          </rect>
        ))}
        <path d={`M${left} ${top + 0.5}H${Math.max(left, end)}`} stroke="var(--ink)" strokeWidth={1.5} />
        {timeMarks(side.seconds).map((second) => (
          <text
            key={second}
            x={left + (second / Math.max(1, side.seconds)) * Math.max(0, end - left)}
            y={top + height + 20}
            textAnchor={second === 0 ? "start" : "middle"}
            className="fill-soft text-[12.5px]"
          >
            {markWords(second, side.seconds)}
          </text>
        ))}
      </svg>
      <p className="pl-9 text-sm text-soft">
        Frames shown in{" "}
        {side.stretch_s === 1 ? "each second" : `the worst second of every ${duration(side.stretch_s)}`}: what
        hangs below the line was missing, because it broke or built on something broken.
      </p>
    </div>
  );
}
