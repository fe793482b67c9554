// The minute bench: gateway, edge, outside and far end on one time axis, so that the eye sees which leg moved first.
// Round trips hang below each surface line; what was lost stands above it; the calls of that time lie beneath.
import { Link } from "react-router";
import type { Model } from "../api/client";
import { clock, count, fixed, ms, withUnit } from "../ui/format";
import { Wide } from "../ui/wide";
import { BENCH, depthOf, type Normal, normalOf, stretchesOf, ticksOf, xOf } from "./bench-geometry";
import { paintMos } from "./depth";

type Bench = Model<"MinuteBench">;
type Lane = Model<"Lane">;
type Mark = { from_us: number; until_us: number; leg: string };

const ROLES = {
  gateway: "Gateway",
  edge: "Provider’s edge",
  outside: "Outside",
  "far-end": "Far end",
} as const;
const ORDER = Object.keys(ROLES);
const PAUSE_US = { round: 5_000_000, minute: 120_000_000, "ten minutes": 1_200_000_000, hour: 7_200_000_000 };

/** Longest span in which normal is drawn: farther off its hours are too narrow to be told apart. */
export const NORMAL_US = 8 * 86_400_000_000;

interface Props {
  bench: Bench;
  zone: string;
  marks: Mark[];
  /** Bracketed above the lanes, with their numbers. */
  notes: { number: number; from_us: number; until_us: number; words: string }[];
  places: Model<"ReadPlace">[];
}

export function MinuteBench({ bench, zone, marks, notes, places }: Props) {
  const normalFor = (lane: Lane): Normal[] => {
    const place = places.find((one) => one.role === lane.role && one.name === lane.name);
    if (!place || bench.until_us - bench.from_us > NORMAL_US) return [];
    return normalOf(
      { from: bench.from_us, until: bench.until_us },
      zone,
      place.normal_ms,
      place.normal_mad_ms,
    );
  };
  const lanes = [...bench.lanes].sort((a, b) => ORDER.indexOf(a.role) - ORDER.indexOf(b.role));
  const x = (us: number) => xOf(us, bench.from_us, bench.until_us);
  const top = 16;
  const height = top + lanes.length * (BENCH.lane + BENCH.gap) + BENCH.calls + 18;
  const ticks = ticksOf(bench.from_us, bench.until_us, zone);
  const laneTop = (i: number) => top + i * (BENCH.lane + BENCH.gap);
  const callsTop = laneTop(lanes.length);
  return (
    <Wide label="Minute bench">
      <svg
        data-wide
        viewBox={`0 0 ${BENCH.width} ${height}`}
        className="block w-full"
        aria-label="Minute bench"
      >
        {marks.map((mark) => (
          <rect
            key={`${mark.from_us}${mark.leg}`}
            x={Math.max(BENCH.left, x(mark.from_us))}
            y={top - 8}
            width={Math.max(
              1,
              Math.min(BENCH.width, x(mark.until_us)) - Math.max(BENCH.left, x(mark.from_us)),
            )}
            height={callsTop - top + 4}
            fill="var(--hair)"
            opacity={0.55}
          />
        ))}
        {notes.map((one) => {
          const [left, right] = [one.from_us, one.until_us].map((us) =>
            Math.min(BENCH.width - 14, Math.max(BENCH.left, x(us))),
          ) as [number, number];
          return (
            <g key={one.number}>
              <title>{one.words}</title>
              <path d={`M${left} 9V4H${right}V9`} fill="none" stroke="var(--ink)" strokeWidth={1.2} />
              <text x={right + 3} y={10} className="fill-ink text-[12px]">
                {one.number}
              </text>
            </g>
          );
        })}
        {ticks.map((us) => (
          <g key={us}>
            <path d={`M${x(us)} ${top - 6}V${callsTop - 8}`} stroke="var(--hair)" />
            <text
              x={x(us)}
              y={height - 4}
              textAnchor={x(us) > BENCH.width - 30 ? "end" : "middle"}
              className="fill-soft text-[12px]"
            >
              {tickWords(us, zone, bench)}
            </text>
          </g>
        ))}
        {lanes.map((lane, i) => (
          <LaneRow
            key={`${lane.role}${lane.name}`}
            lane={lane}
            bench={bench}
            normal={normalFor(lane)}
            y={laneTop(i)}
            x={x}
          />
        ))}
        <Calls bench={bench} y={callsTop} x={x} />
        {bench.beside_us.map(([from, until]) => (
          <path
            key={from}
            d={`M${x(from)} ${callsTop - 6}H${Math.max(x(until), x(from) + 2)}`}
            stroke="var(--ink)"
            strokeDasharray="3 2"
          />
        ))}
      </svg>
    </Wide>
  );
}

interface LaneProps {
  lane: Lane;
  bench: Bench;
  normal: Normal[];
  y: number;
  x: (us: number) => number;
}

function LaneRow({ lane, bench, normal, y, x }: LaneProps) {
  const deep = depthOf(lane.max_ms);
  const down = (value: number | null | undefined) => y + Math.min(1, (value ?? 0) / deep) * BENCH.lane;
  const at = bench.at_us;
  const stretches = stretchesOf(at, lane.p50_ms, PAUSE_US[bench.step]);
  const line = (pick: (i: number) => number) =>
    stretches
      .map(([first, last]) => {
        const points = Array.from({ length: last - first + 1 }, (_, k) => first + k);
        return `M${points.map((i) => `${x(at[i] ?? 0).toFixed(1)} ${pick(i).toFixed(1)}`).join("L")}`;
      })
      .join("");
  const band = stretches
    .map(([first, last]) => {
      const points = Array.from({ length: last - first + 1 }, (_, k) => first + k);
      const lower = points.map((i) => `${x(at[i] ?? 0).toFixed(1)} ${down(lane.max_ms[i]).toFixed(1)}`);
      const upper = points
        .reverse()
        .map((i) => `${x(at[i] ?? 0).toFixed(1)} ${down(lane.min_ms[i]).toFixed(1)}`);
      return `M${lower.join("L")}L${upper.join("L")}Z`;
    })
    .join("");
  const losses = at
    .map((us, i) => {
      const share = (lane.lost[i] ?? 0) / Math.max(1, lane.sent[i] ?? 0);
      return share > 0 ? `M${x(us).toFixed(1)} ${y - 2}v${-(2 + 9 * Math.min(1, share)).toFixed(1)}` : "";
    })
    .join("");
  const usual = normal
    .flatMap((hour) => [hour.low, hour.high].map((value) => ({ ...hour, value })))
    .filter((one) => one.value < deep)
    .map((one) => `M${x(one.from).toFixed(1)} ${down(one.value).toFixed(1)}H${x(one.until).toFixed(1)}`)
    .join("");
  const sent = lane.sent.reduce((sum, n) => sum + n, 0);
  const lost = lane.lost.reduce((sum, n) => sum + n, 0);
  return (
    <g>
      <text x={0} y={y + 12} className="fill-ink text-[13.5px]">
        {ROLES[lane.role]}
      </text>
      <text x={0} y={y + 29} className="fill-soft text-[12px]">
        {lane.name.length > 22 ? `${lane.name.slice(0, 21)}…` : lane.name}
        <title>{lane.name}</title>
      </text>
      <text x={0} y={y + 45} className="fill-soft text-[12px]">
        {sent === 0 ? "not asked" : `${count(lost)} of ${count(sent)} lost`}
      </text>
      <path d={`M${BENCH.left} ${y}H${BENCH.width}`} stroke="var(--ink)" strokeWidth={0.9} />
      {bench.step !== "round" && <path d={band} fill="var(--depth-1)" opacity={0.75} />}
      <path d={line((i) => down(lane.p50_ms[i]))} fill="none" stroke="var(--depth-4)" strokeWidth={1.3} />
      <path d={usual} stroke="var(--ink)" strokeWidth={0.8} strokeDasharray="2 3" />
      <path d={losses} stroke="var(--depth-5)" strokeWidth={bench.step === "round" ? 2 : 1.4} />
      <text x={BENCH.left - 6} y={y + BENCH.lane} textAnchor="end" className="fill-soft text-[11px]">
        {withUnit(deep, "ms")}
      </text>
    </g>
  );
}

function Calls({ bench, y, x }: { bench: Bench; y: number; x: (us: number) => number }) {
  return (
    <g>
      <text x={0} y={y + 11} className="fill-ink text-[13.5px]">
        Calls
      </text>
      <text x={0} y={y + 26} className="fill-soft text-[12px]">
        up above, down below
      </text>
      {bench.calls.some((call) => call.among > 1) && (
        <text x={0} y={y + 41} className="fill-soft text-[12px]">
          the worst of several
        </text>
      )}
      {bench.calls.map((call) => {
        const left = Math.max(BENCH.left, x(call.started_us));
        const right = Math.min(BENCH.width, x(call.started_us + call.seconds * 1e6));
        const ways = (
          [
            ["up", call.up_mos],
            ["down", call.down_mos],
          ] as const
        ).filter(([, mos]) => mos !== null);
        const had = ways.map(([way, mos]) => `${way} ${fixed(mos, 2)} MOS`).join(", ");
        const begun = `${clock(call.started_us, "UTC")} UTC: ${had}`;
        const words = call.among > 1 ? `Worst of ${call.among} calls, ${begun}` : `Call, ${begun}`;
        return (
          <Link key={call.call_id} to={`/calls/${call.call_id}`} aria-label={words}>
            <title>{words}</title>
            {ways.map(([way, mos]) => (
              <rect
                key={way}
                x={left}
                y={y + (way === "up" ? 0 : 13)}
                width={Math.max(2.5, right - left)}
                height={12}
                fill={paintMos(mos)}
                stroke="var(--ink)"
                strokeWidth={0.5}
              />
            ))}
          </Link>
        );
      })}
    </g>
  );
}

function tickWords(us: number, zone: string, bench: Bench): string {
  const hours = (bench.until_us - bench.from_us) / 3.6e9;
  return new Date(us / 1000).toLocaleString("en-GB", {
    timeZone: zone,
    ...(hours > 48
      ? {
          weekday: "short",
          day: "2-digit",
          ...(hours > 24 * 10 ? {} : { hour: "2-digit", minute: "2-digit" }),
        }
      : { hour: "2-digit", minute: "2-digit", ...(hours < 0.2 ? { second: "2-digit" } : {}) }),
  });
}

/** What a lane's figures come to over the span, for whoever cannot see the picture. */
export function BenchFigures({ bench }: { bench: Bench }) {
  return (
    // A table grows to its content whatever width it is given: what hides it stands around it.
    <div className="sr-only">
      <table>
        <caption>Round trips and losses in this span</caption>
        <tbody>
          {bench.lanes.map((lane) => {
            const known = lane.p50_ms.filter((v): v is number => v !== null).sort((a, b) => a - b);
            return (
              <tr key={`${lane.role}${lane.name}`}>
                <th>{`${ROLES[lane.role]} ${lane.name}`}</th>
                <td>{ms(known[Math.floor(known.length / 2)] ?? null, 1)} median</td>
                <td>{count(lane.lost.reduce((sum, n) => sum + n, 0))} lost</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}
