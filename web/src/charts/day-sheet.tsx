// The day sheet: days as rows, the local day left to right, depth-painted by the chosen measure.
import { type KeyboardEvent, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Model } from "../api/client";
import { fixed, ms, pct, plural } from "../ui/format";
import { Wide } from "../ui/wide";
import {
  BusinessHours,
  CELL,
  CELLS,
  type CellPlace,
  clockOf,
  DayName,
  HourMarks,
  LEFT,
  movedBy,
  placeOf,
  TOP,
  WIDTH,
} from "./day-frame";
import { depthOfMos, paint } from "./depth";
import { depthOfCell } from "./echo-path";

type Sheet = Model<"DaySheet">;
type Day = Sheet["days"][number];
type Imported = Sheet["imported"][number];

const ROW = 34;

const MEASURES = {
  mos: { words: "MOS", key: "mos", depth: depthOfMos },
  added: { words: "added delay", key: "added_ms", depth: (v: number) => Math.min(1, v / 250) },
  loss: { words: "loss", key: "loss_pct", depth: (v: number) => Math.min(1, v / 5) },
} as const;
type MeasureName = keyof typeof MEASURES;

export function DaySheet({ sheet, leftOut }: { sheet: Sheet; leftOut: number }) {
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const measure = (search.get("measure") ?? "mos") as MeasureName;
  const chosen = MEASURES[measure] ?? MEASURES.mos;
  const [at, setAt] = useState<CellPlace | null>(null);
  if (sheet.days.length === 0) {
    return (
      <p>
        No call counts here yet. Each call placed appears in its ten minutes
        {leftOut > 0 &&
          `; ${plural(leftOut, "call")} placed so far ${leftOut === 1 ? "is" : "are"} left out, for the reasons below`}
        .
      </p>
    );
  }
  const open = (place: CellPlace) => {
    const call = sheet.days[place.row]?.call_id[place.cell];
    if (call) navigate(`/calls/${call}`);
  };
  const onKey = (event: KeyboardEvent) => {
    const here = at ?? { row: sheet.days.length - 1, cell: 60 };
    const moved = movedBy(event.key, here, sheet.days.length);
    if (moved) {
      event.preventDefault();
      setAt(moved);
    } else if (event.key === "Enter") {
      open(here);
    }
  };
  return (
    <div>
      <fieldset className="mb-2 flex flex-wrap gap-5 text-sm">
        <legend className="sr-only">Measure</legend>
        {Object.entries(MEASURES).map(([name, one]) => (
          <label key={name} className="flex items-center gap-1.5">
            <input
              type="radio"
              name="measure"
              className="accent-[var(--ink)]"
              checked={measure === name}
              onChange={() => setSearch(name === "mos" ? {} : { measure: name }, { replace: true })}
            />
            {one.words}
          </label>
        ))}
      </fieldset>
      <Wide label="Day sheet">
        <svg
          data-wide
          viewBox={`0 0 ${WIDTH} ${TOP + sheet.days.length * ROW}`}
          className="w-full"
          role="application"
          aria-label="Day sheet. Arrow keys move from cell to cell, Enter opens the call."
          // biome-ignore lint/a11y/noNoninteractiveTabindex: an application of its own, moved by arrow keys
          tabIndex={0}
          onKeyDown={onKey}
          onPointerMove={(event) => setAt(placeOf(event, ROW, sheet.days.length))}
          onClick={(event) => {
            const place = placeOf(event, ROW, sheet.days.length);
            if (place) open(place);
          }}
        >
          <HourMarks />
          {sheet.days.map((day, row) => (
            <DayRow key={day.day} day={day} y={TOP + row * ROW} sheet={sheet} measure={chosen} />
          ))}
          {at && (
            <rect
              x={LEFT + at.cell * CELL - 1}
              y={TOP + at.row * ROW - 1}
              width={CELL + 2}
              height={ROW - 6}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={1.6}
            />
          )}
        </svg>
      </Wide>
      {sheet.imported.length > 0 && <ImportedFiles sheet={sheet} />}
      <p className="mt-1 min-h-6 text-sm" aria-live="polite">
        {at ? (
          describe(sheet, at)
        ) : (
          <span className="text-soft">
            Underlined cells were measured. Hover over a cell, or move with the arrow keys.
          </span>
        )}
      </p>
    </div>
  );
}

function DayRow(props: { day: Day; y: number; sheet: Sheet; measure: (typeof MEASURES)[MeasureName] }) {
  const { day, y, sheet, measure } = props;
  return (
    <g>
      <DayName day={day.day} y={y + 18} />
      <path d={`M${LEFT} ${y + 13.5}H${LEFT + CELLS * CELL}`} stroke="var(--hair)" strokeWidth={0.6} />
      {(["up", "down"] as const).map((side, i) =>
        day[`${side}_${measure.key}`].map((value, cell) =>
          value === null ? null : (
            <rect
              key={`${side}${cell}`}
              x={LEFT + cell * CELL}
              y={y + i * 14}
              width={CELL - 0.4}
              height={13}
              fill={paint(measure.depth(value))}
            />
          ),
        ),
      )}
      {sheet.imported.map((one) => (
        <ImportedMarks key={one.id} one={one} day={day.day} y={y} />
      ))}
      {/* What was measured is underlined: calm and not measured differ without their colour. */}
      <path d={underline(day, y + 28)} stroke="var(--soft)" strokeWidth={1} />
      <BusinessHours hours={sheet} day={day.day} y={y - 2.5} height={32} />
    </g>
  );
}

/** Imported files stand below both directions, as open diamonds: seen by somebody else, counted by nobody. */
function ImportedMarks({ one, day, y }: { one: Imported; day: string; y: number }) {
  return (
    <>
      {one.cells
        .filter((cell) => cell.day === day)
        .map((cell) => (
          <path
            key={cell.cell}
            d={`M${LEFT + cell.cell * CELL + CELL / 2} ${y + 26}l3.4 3.4l-3.4 3.4l-3.4 -3.4z`}
            fill={paint(depthOfCell(cell))}
            stroke="var(--ink)"
            strokeWidth={0.7}
          />
        ))}
    </>
  );
}

function ImportedFiles({ sheet }: { sheet: Sheet }) {
  const days = new Set(sheet.days.map((day) => day.day));
  return (
    <ul className="mt-1 text-sm">
      {sheet.imported.map((one) => {
        const beyond = one.cells.filter((cell) => !days.has(cell.day)).length;
        return (
          <li key={one.id}>
            <span aria-hidden="true">◇ </span>
            <Link to={`/imports/${one.id}`} className="underline underline-offset-3">
              {one.name}
            </Link>
            <span className="text-soft">
              , imported{one.test_point && `, for ${one.test_point}`}; not counted in the verdict
              {one.cells.length === 0 && "; it is not known when it was taken"}
              {beyond > 0 && `; ${plural(beyond, "ten-minute cell")} on other days`}
            </span>
          </li>
        );
      })}
    </ul>
  );
}

function underline(day: Day, y: number): string {
  return day.up_mos
    .map((up, cell) =>
      up === null && day.down_mos[cell] === null ? "" : `M${LEFT + cell * CELL} ${y}h${CELL - 0.4}`,
    )
    .join("");
}

function describe(sheet: Sheet, { row, cell }: CellPlace): string {
  const day = sheet.days[row];
  if (!day) return "";
  const time = clockOf(cell);
  const others = sheet.imported.flatMap((one) =>
    one.cells
      .filter((c) => c.day === day.day && c.cell === cell)
      .map((c) => `${one.name}: ${c.mos === null ? "" : `${fixed(c.mos, 2)} MOS, `}${pct(c.loss_pct)} lost`),
  );
  const beside = others.length > 0 ? ` · imported ${others.join(" · ")}` : "";
  if (day.call_id[cell] === null) return `${day.day} ${time} · not measured${beside}`;
  const side = (name: "up" | "down") =>
    `${name} ${fixed(day[`${name}_mos`][cell], 2)} MOS, ${ms(day[`${name}_added_ms`][cell])} added, ${pct(day[`${name}_loss_pct`][cell])} lost`;
  return `${day.day} ${time} · ${side("up")} · ${side("down")}${beside} · click to open the call`;
}
