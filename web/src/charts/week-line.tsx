// Seven days as a line of soundings: each hour hangs from the surface as deep as calls were spoiled in it.
import type { Model } from "../api/client";
import { paintMos } from "./depth";
import { daysBetween } from "./spell-geometry";
import { sounding } from "./week-geometry";

const HEIGHT = 30;

interface Props {
  hours: Model<"TodayHour">[];
  of: Model<"TodaySite">["hours_of"];
  from: number;
  until: number;
}

export function WeekLine({ hours, of, from, until }: Props) {
  if (of === null) return <span className="text-sm text-soft">nothing measured in these days</span>;
  const bad = hours.filter((hour) => hour.mos < 4).length;
  return (
    <svg
      viewBox={`0 0 336 ${HEIGHT + 2}`}
      preserveAspectRatio="none"
      className="h-8 w-full"
      role="img"
      aria-label={`By ${of === "watch" ? "its watch" : "its calls"}, ${bad} of ${hours.length} hours measured in seven days were below 4 MOS`}
    >
      {daysBetween(from, until).map((day) => (
        <path key={day.at} d={`M${day.at * 336} 0V${HEIGHT}`} stroke="var(--hair)" />
      ))}
      {hours.map((hour) => {
        const { x, depth } = sounding(hour, from);
        return (
          <rect
            key={hour.at_us}
            x={x}
            y={3}
            width={2}
            height={Math.max(2, depth * (HEIGHT - 3))}
            fill={paintMos(hour.mos)}
          />
        );
      })}
      {/* The surface is drawn where something was measured: a calm hour and one not measured differ without colour. */}
      <path
        d={hours.map((hour) => `M${sounding(hour, from).x} 2h2`).join("")}
        stroke="var(--ink)"
        strokeWidth={1.4}
      />
    </svg>
  );
}
