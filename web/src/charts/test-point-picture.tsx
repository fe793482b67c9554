// The site's path with everything that stands on it: test points from the farthest outwards, the WAN edge, the far ends.
import type { Model } from "../api/client";
import { Wide } from "../ui/wide";
import { STAGE, stations } from "./test-point-geometry";

type Page = Model<"PlacePage">;

export const MOST_NAMED = 7;

export function TestPointPicture({ page }: { page: Page }) {
  const chosen = page.far_ends.filter((far) => far.chosen);
  const { testPoints, wayOut, ends } = stations(
    page.test_points.map((testPoint) => testPoint.kind === "outside"),
    chosen.length,
  );
  const words = [
    ...page.test_points.map(
      (s) => `${s.name}: ${s.probes.map((p) => `${p.name}, ${p.state}`).join("; ") || "no probe"}`,
    ),
    ...chosen.map((far) => `far end ${far.name}`),
  ].join(". ");
  const y = STAGE.line;
  // Where names would run into each other, numbers stand for them; the list below has both.
  const crowded = page.test_points.length > MOST_NAMED;
  return (
    <Wide label="Test points">
      <svg
        data-wide
        viewBox={`0 0 ${STAGE.width} ${STAGE.height}`}
        className="w-full"
        role="img"
        aria-label={words}
      >
        <path d={`M20 ${y}H${wayOut}`} stroke="var(--ink)" strokeWidth={2} />
        <path
          d={`M${wayOut} ${y}H${STAGE.cloud}`}
          stroke="var(--ink)"
          strokeWidth={2}
          strokeDasharray="7 4"
        />
        <path d={`M${wayOut} ${y - 30}V${y + 30}`} stroke="var(--ink)" strokeWidth={4} />
        <g className="fill-soft text-[13px]">
          <text x={20} y={16}>
            inside {page.site_name}
          </text>
          <text x={wayOut} y={y + 48} textAnchor="middle">
            WAN edge
          </text>
          <text x={(wayOut + STAGE.cloud) / 2} y={16} textAnchor="middle">
            {["the line", page.medium, page.provider].filter(Boolean).join(" · ")}
          </text>
        </g>
        {page.test_points.map((testPoint, i) => (
          <g key={testPoint.id} transform={`translate(${testPoints[i]} ${y})`}>
            <circle r={4.5} fill="var(--paper)" stroke="var(--ink)" strokeWidth={1.6} />
            <text y={-14} textAnchor="middle" className="fill-ink text-[14px] font-semibold">
              {crowded ? i + 1 : testPoint.name}
            </text>
            {crowded && testPoint.probes[0] && (
              <g transform="translate(0 20)">
                <Lead
                  state={
                    testPoint.probes.find((probe) => probe.state === "online")?.state ??
                    testPoint.probes[0].state
                  }
                  above={15}
                />
              </g>
            )}
            {!crowded &&
              testPoint.probes.map((probe, j) => (
                <g key={probe.id} transform={`translate(0 ${20 + j * 30})`}>
                  <Lead state={probe.state} above={j === 0 ? 15 : 24} />
                  <text x={12} y={10} className="fill-ink text-[13px]">
                    {probe.name}
                  </text>
                </g>
              ))}
            {!crowded && testPoint.probes.length === 0 && (
              <text y={26} textAnchor="middle" className="fill-soft text-[13px]">
                no probe
              </text>
            )}
          </g>
        ))}
        {chosen.map((far, i) => (
          <g key={far.id}>
            <path
              d={`M${STAGE.cloud} ${y}C${STAGE.cloud + 24} ${y} ${STAGE.cloud + 14} ${ends[i]} ${STAGE.cloud + 40} ${ends[i]}`}
              stroke="var(--ink)"
              strokeWidth={1.4}
              fill="none"
            />
            <path d={`M${STAGE.cloud + 40} ${(ends[i] ?? y) - 11}v22`} stroke="var(--ink)" strokeWidth={4} />
            <text x={STAGE.cloud + 52} y={(ends[i] ?? y) + 5} className="fill-ink text-[14px] font-semibold">
              {far.name}
            </text>
          </g>
        ))}
        {chosen.length === 0 && (
          <text x={STAGE.cloud + 12} y={y + 5} className="fill-soft text-[13px]">
            no far end chosen
          </text>
        )}
      </svg>
    </Wide>
  );
}

/** A sounding lead let down where a probe stands: full when it is heard, empty when it is not. */
function Lead({ state, above }: { state: string; above: number }) {
  return (
    <>
      <path
        d={`M0 ${-above}V0`}
        stroke="var(--ink)"
        strokeDasharray={state === "online" ? undefined : "2 2"}
      />
      <path
        d="M-4 0H4L6 13Q0 17 -6 13Z"
        fill={state === "online" ? "var(--ink)" : "var(--paper)"}
        stroke="var(--ink)"
        strokeDasharray={state === "not placed" ? "2 2" : undefined}
      />
    </>
  );
}
