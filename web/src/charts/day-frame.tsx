// What sheets of days share: ten-minute cells from midnight on, hours above, business hours bracketed, moves by key.
import { openings } from "./day-geometry";

export const CELLS = 144;
export const LEFT = 92;
export const CELL = 8;
export const TOP = 22;
export const WIDTH = LEFT + CELLS * CELL + 22;

export interface CellPlace {
  row: number;
  cell: number;
}

export interface Hours {
  open_minute: number;
  close_minute: number;
  open_days: string;
}

export function HourMarks() {
  return (
    <>
      {Array.from({ length: 9 }, (_, i) => i * 3).map((hour) => (
        <text
          key={hour}
          x={LEFT + hour * 6 * CELL}
          y={12}
          textAnchor="middle"
          className="fill-soft text-[12px]"
        >
          {String(hour).padStart(2, "0")}:00
        </text>
      ))}
    </>
  );
}

export function DayName({ day, y }: { day: string; y: number }) {
  return (
    <text x={0} y={y} className="fill-ink text-[13.5px]">
      {new Date(`${day}T12:00:00Z`).toLocaleDateString("en-GB", {
        weekday: "short",
        day: "2-digit",
        month: "short",
        timeZone: "UTC",
      })}
    </text>
  );
}

export function BusinessHours(props: { hours: Hours; day: string; y: number; height: number }) {
  const marks = openings(props.hours, props.day);
  if (marks.length === 0) return null;
  const bracket = (minute: number, arm: number) => {
    const x = LEFT + (minute / 10) * CELL;
    return `M${x + arm} ${props.y}H${x}V${props.y + props.height}H${x + arm}`;
  };
  return (
    <path
      d={marks.map(([minute, arm]) => bracket(minute, arm)).join("")}
      fill="none"
      stroke="var(--ink)"
      strokeWidth={1.4}
    />
  );
}

export function placeOf(
  event: { currentTarget: SVGSVGElement; clientX: number; clientY: number },
  rowHeight: number,
  rows: number,
): CellPlace | null {
  const box = event.currentTarget.getBoundingClientRect();
  const scale = WIDTH / box.width;
  const cell = Math.floor(((event.clientX - box.left) * scale - LEFT) / CELL);
  const row = Math.floor(((event.clientY - box.top) * scale - TOP) / rowHeight);
  return cell >= 0 && cell < CELLS && row >= 0 && row < rows ? { row, cell } : null;
}

const STEPS: Record<string, [number, number]> = {
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
};

/** Where an arrow key leads; null for any other key. */
export function movedBy(key: string, here: CellPlace, rows: number): CellPlace | null {
  const step = STEPS[key];
  if (!step) return null;
  return {
    row: Math.min(rows - 1, Math.max(0, here.row + step[0])),
    cell: Math.min(CELLS - 1, Math.max(0, here.cell + step[1])),
  };
}

/** The local time at which a cell begins. */
export const clockOf = (cell: number) =>
  `${String(Math.floor(cell / 6)).padStart(2, "0")}:${(cell % 6) * 10 || "00"}`;
