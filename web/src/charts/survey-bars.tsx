// Delay to the gateway at one place: small packets above, large ones below, on the scale of all places.

import { withUnit } from "../ui/format";
import { BAR, barOf, type Echoes, lossOf } from "./survey-geometry";

export function SurveyBars({
  small,
  large,
  endMs,
}: {
  small: Echoes | null;
  large: Echoes | null;
  endMs: number;
}) {
  const rows: [Echoes | null, number, number][] = [
    [small, 3, 8],
    [large, 16, 6],
  ];
  return (
    <svg
      viewBox={`0 0 ${BAR.width} ${BAR.height}`}
      className="block w-full max-w-[220px] min-w-[120px]"
      role="img"
      aria-label={[words("Small", small), words("Large", large)].filter(Boolean).join(" ")}
    >
      <path d={`M0.5 0V${BAR.height}M0 ${BAR.height - 0.5}H${BAR.width}`} stroke="var(--hair)" fill="none" />
      {rows.map(([one, y, height]) => {
        const bar = barOf(one, endMs);
        return bar ? (
          <rect
            key={y}
            x={bar.x}
            y={y}
            width={bar.width}
            height={height}
            fill={y === 3 ? "var(--ink)" : "transparent"}
            stroke="var(--ink)"
          />
        ) : null;
      })}
    </svg>
  );
}

function words(name: string, one: Echoes | null): string {
  if (!one || one.median_ms === null || one.p95_ms === null) return "";
  const loss = lossOf(one);
  return `${name} packets of ${one.packet_bytes} bytes: median ${withUnit(one.median_ms.toFixed(1), "ms")}, 95th percentile ${withUnit(one.p95_ms.toFixed(1), "ms")}${loss === null ? "" : `, ${withUnit(loss.toFixed(1), "%")} lost`}.`;
}
