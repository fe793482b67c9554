// Round trips as they came, each hanging below the line as deep as it was long; what no answer came to stands above it.
import type { Model } from "../api/client";
import { withUnit } from "../ui/format";
import { deepOf, dropsOf, STRIP } from "./look-geometry";

export function LookStrip({ series, intervalS }: { series: Model<"LookSeries">; intervalS: number }) {
  const deepMs = deepOf(series.rtt_us);
  const drops = dropsOf(series.rtt_us, deepMs);
  const span = Math.round(series.rtt_us.length * intervalS);
  return (
    <figure className="mt-3">
      <figcaption className="text-sm text-soft">
        {series.packet_bytes} bytes: the newest {series.rtt_us.length} round trips, {withUnit(span, "s")}; the
        strip is {withUnit(deepMs, "ms")} deep; a mark above the line is a packet without an answer
      </figcaption>
      <svg
        viewBox={`0 -8 ${STRIP.width} ${STRIP.height + 10}`}
        className="mt-1 block w-full"
        role="img"
        aria-label={`Round trips of packets of ${series.packet_bytes} bytes`}
      >
        <path d={`M0 ${STRIP.top}H${STRIP.width}`} stroke="var(--ink)" />
        <path
          d={drops.map((one) => (one.y === null ? "" : `M${one.x} ${STRIP.top}V${one.y}`)).join("")}
          stroke="var(--soft)"
          strokeWidth={2}
        />
        <path
          d={drops.map((one) => (one.y === null ? `M${one.x} ${STRIP.top - 3}V-6` : "")).join("")}
          stroke="var(--depth-5)"
          strokeWidth={3}
        />
      </svg>
    </figure>
  );
}
