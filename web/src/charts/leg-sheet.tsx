// The day sheet of a watch: each day three rows deep, inside, line and beyond, or one row of a single place.
import { type KeyboardEvent, useState } from "react";
import type { Model } from "../api/client";
import { dateTime, ms, pct } from "../ui/format";
import { Wide } from "../ui/wide";
import { momentOf } from "./bench-geometry";
import {
  BusinessHours,
  CELL,
  CELLS,
  type CellPlace,
  clockOf,
  DayName,
  HourMarks,
  type Hours,
  LEFT,
  movedBy,
  placeOf,
  TOP,
  WIDTH,
} from "./day-frame";
import { spansOf } from "./day-geometry";
import { depthOfMos, paint } from "./depth";

type Day = Model<"WatchDay">;

const BAND = 10;
const PAUSE = 9;
export const LEGS: Record<string, string> = {
  inside: "inside",
  line: "line",
  beyond: "beyond",
  "inside or line": "inside or line",
  unknown: "whole path",
};
interface Measure {
  words: string;
  says: (value: number) => string;
  depth: (value: number) => number;
}
const LOSS: Measure = { words: "Loss", says: (v) => `${pct(v)} lost`, depth: (v) => Math.min(1, v / 5) };
export const LEG_MEASURES: Record<string, Measure> = {
  mos: { words: "Calls (MOS)", says: (v) => `${v.toFixed(2)} MOS`, depth: depthOfMos },
  added: {
    words: "Added delay, 95th percentile",
    says: (v) => `${ms(v)} added`,
    depth: (v) => Math.min(1, v / 250),
  },
  loss: LOSS,
};
export const SERVICE_MEASURES: Record<string, Measure> = {
  unanswered: {
    words: "Not answered",
    says: (v) => `${pct(v)} not answered`,
    depth: (v) => Math.min(1, v / 50),
  },
  answer: {
    words: "Time to answer",
    says: (v) => `answered in ${ms(v)}`,
    depth: (v) => Math.min(1, v / 1500),
  },
};
export const PLACE_MEASURES: Record<string, Measure> = {
  delay: { words: "Round trip, median", says: (v) => ms(v), depth: (v) => Math.min(1, v / 300) },
  jitter: {
    words: "Jitter, 95th percentile over the median",
    says: (v) => `${ms(v)} over the median`,
    depth: (v) => Math.min(1, v / 60),
  },
  loss: LOSS,
};

interface Props {
  days: Day[];
  hours: Hours;
  measure: Measure;
  recurrences: { from_minute: number; until_minute: number; leg: string; says: string }[];
  remedies: Model<"WatchRemedy">[];
  /** Numbered at the moment where they begin. */
  notes: { number: number; from_us: number; words: string }[];
  blackouts: Model<"BlackoutForm">[];
  loadsUs: number[];
  zone: string;
  onOpen: (atUs: number) => void;
}

export function LegSheet({
  days,
  hours,
  measure,
  recurrences,
  remedies,
  notes,
  blackouts,
  loadsUs,
  zone,
  onOpen,
}: Props) {
  const [at, setAt] = useState<CellPlace | null>(null);
  const names = days[0]?.rows.map(nameOf) ?? [];
  const band = names.length === 1 ? 2 * BAND : BAND;
  const deep = names.length * band;
  const row = deep + PAUSE;
  const open = (place: CellPlace) => {
    const began = days[place.row]?.at_us[place.cell];
    if (began) onOpen(began);
  };
  const onKey = (event: KeyboardEvent) => {
    const here = at ?? { row: days.length - 1, cell: 60 };
    const moved = movedBy(event.key, here, days.length);
    if (moved) {
      event.preventDefault();
      setAt(moved);
    } else if (event.key === "Enter") {
      open(here);
    }
  };
  return (
    <div>
      <Wide label="Day sheet of the watch">
        <svg
          data-wide
          viewBox={`0 0 ${WIDTH} ${TOP + days.length * row}`}
          className="w-full"
          role="application"
          aria-label="Day sheet of the watch. Arrow keys move from cell to cell, Enter opens the minute bench."
          // biome-ignore lint/a11y/noNoninteractiveTabindex: an application of its own, moved by arrow keys
          tabIndex={0}
          onKeyDown={onKey}
          onPointerMove={(event) => setAt(placeOf(event, row, days.length))}
          onClick={(event) => {
            const place = placeOf(event, row, days.length);
            if (place) open(place);
          }}
        >
          <HourMarks />
          {recurrences.map((one) => (
            <path
              key={one.says}
              d={traced(one.from_minute, one.until_minute, TOP - 4, TOP + days.length * row - 4)}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={0.8}
              strokeDasharray="2 3"
            />
          ))}
          {days.map((day, i) => (
            <g key={day.day}>
              <DayName day={day.day} y={TOP + i * row + 18} />
              {day.rows.map((one, k) =>
                one.values.map((value, cell) => (
                  // A leg's cell that was measured and calm is pale sand; one that was not measured is bare paper.
                  <rect
                    key={`${one.leg}${one.name}${day.at_us[cell] ?? -cell}`}
                    x={LEFT + cell * CELL}
                    y={TOP + i * row + k * band}
                    width={CELL - 0.4}
                    height={value === null ? 0 : band - 0.6}
                    fill={paint(value === null ? 0 : measure.depth(value))}
                  />
                )),
              )}
              <path d={underlined(day, TOP + i * row + deep)} stroke="var(--soft)" strokeWidth={1} />
              <path
                d={hatched(spansOf(blackouts, day.day), TOP + i * row, deep)}
                stroke="var(--soft)"
                strokeWidth={0.7}
              />
              <path
                d={loadsUs
                  .map((us) => momentOf(us, zone))
                  .filter((one) => one.day === day.day)
                  .map((one) => `M${LEFT + (one.minute / 10) * CELL} ${TOP + i * row + deep + 1.5}v4.5`)
                  .join("")}
                stroke="var(--ink)"
                strokeWidth={1.6}
              />
              <BusinessHours hours={hours} day={day.day} y={TOP + i * row - 1.5} height={deep + 3} />
            </g>
          ))}
          {remedies.map((one) => {
            const { day, minute } = momentOf(one.at_us, zone);
            const i = days.findIndex((shown) => shown.day === day);
            if (i < 0) return null;
            const x = LEFT + (minute / 10) * CELL;
            const y = TOP + i * row;
            return (
              <path
                key={`${one.at_us} ${one.words}`}
                d={`M${x - 4} ${y - 8}H${x + 4}L${x} ${y - 2}ZM${x} ${y - 2}V${y + deep + 2}`}
                fill="var(--ink)"
                stroke="var(--ink)"
                strokeWidth={1.4}
              >
                <title>{one.words}</title>
              </path>
            );
          })}
          {notes.map((one) => {
            const { day, minute } = momentOf(one.from_us, zone);
            const i = days.findIndex((shown) => shown.day === day);
            if (i < 0) return null;
            return (
              <text
                key={one.number}
                x={LEFT + (minute / 10) * CELL}
                y={TOP + i * row - 2}
                textAnchor="middle"
                className="fill-ink text-[12px] font-semibold"
              >
                {one.number}
                <title>{one.words}</title>
              </text>
            );
          })}
          {at && (
            <rect
              x={LEFT + at.cell * CELL - 1}
              y={TOP + at.row * row - 1}
              width={CELL + 2}
              height={deep + 2}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={1.6}
            />
          )}
        </svg>
      </Wide>
      {remedies.length > 0 && (
        <ul className="mt-1 text-sm">
          {remedies.map((one) => (
            <li key={`${one.at_us} ${one.words}`}>
              <span aria-hidden="true">▾</span> {dateTime(one.at_us, zone)}: {one.words}
            </li>
          ))}
        </ul>
      )}
      <p className="mt-1 min-h-6 text-sm" aria-live="polite">
        {at ? (
          describe(days, at, measure)
        ) : (
          <span className="text-soft">
            {names.length > 1 && `Each day from the top: ${names.join(", ")}. `}
            Underlined cells were measured.
            {loadsUs.length > 0 && " A tick below is a load that somebody placed."}
            {blackouts.length > 0 && " Hatched: no load may be placed."}
            {notes.length > 0 && " Numbers are notes."} Click a cell, or move with the arrow keys, to open its
            minutes.
          </span>
        )}
      </p>
    </div>
  );
}

function underlined(day: Day, y: number): string {
  return day.at_us
    .map((began, cell) => (began === null ? "" : `M${LEFT + cell * CELL} ${y}h${CELL - 0.4}`))
    .join("");
}

/** Slanted lines over hours of a day. */
function hatched(spans: [from: number, until: number][], y: number, deep: number): string {
  const x = (minute: number) => LEFT + (minute / 10) * CELL;
  return spans
    .flatMap(([from, until]) =>
      Array.from({ length: Math.ceil((x(until) - x(from)) / 6) }, (_, i) => {
        const left = x(from) + i * 6;
        return `M${left} ${y + deep}L${Math.min(left + 6, x(until))} ${y}`;
      }),
    )
    .join("");
}

/** A recurrence's hours, traced down the days; over midnight as two stretches. */
function traced(from: number, until: number, top: number, bottom: number): string {
  const x = (minute: number) => LEFT + (minute / 10) * CELL;
  const box = (a: number, b: number) =>
    `M${x(a)} ${top}V${bottom}M${x(b)} ${top}V${bottom}M${x(a)} ${top}H${x(b)}`;
  return until > from ? box(from, until) : box(from, CELLS * 10) + box(0, until);
}

function nameOf(row: Day["rows"][number]): string {
  return row.leg ? (LEGS[row.leg] ?? row.leg) : row.name;
}

function describe(days: Day[], { row, cell }: CellPlace, measure: Measure): string {
  const day = days[row];
  if (!day) return "";
  const head = `${day.day} ${clockOf(cell)}`;
  if (day.at_us[cell] === null) return `${head} · not measured`;
  const told = day.rows.map((one) => {
    const value = one.values[cell];
    return `${nameOf(one)} ${value === null || value === undefined ? "nothing answered" : measure.says(value)}`;
  });
  return `${head} · ${told.join(" · ")} · click to open its minutes`;
}
