// Seven days as a line of soundings: each hour hangs from the surface as deep as calls were spoiled in it.
import type { Model } from "../api/client";
import { depthOfMos, paintMos } from "./depth";
import { daysBetween } from "./spell-geometry";

const HEIGHT = 30;
const HOUR = 2;
const WIDTH = 7 * 24 * HOUR;
const HOUR_US = 3_600_000_000;

interface Props {
  hours: Model<"TodayHour">[];
  of: Model<"TodaySite">["hours_of"];
  from: number;
  until: number;
}

export function WeekLine({ hours, of, from, until }: Props) {
  if (of === null) return <span className="text-sm text-soft">nothing measured in these days</span>;
  const x = (us: number) => (HOUR * (us - from)) / HOUR_US;
  const bad = hours.filter((hour) => hour.mos < 4).length;
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT + 2}`}
      preserveAspectRatio="none"
      className="h-8 w-full"
      role="img"
      aria-label={`By ${of === "watch" ? "its watch" : "its calls"}, ${bad} of ${hours.length} hours measured in seven days were below 4 MOS`}
    >
      {daysBetween(from, until).map((day) => (
        <path key={day.at} d={`M${day.at * WIDTH} 0V${HEIGHT}`} stroke="var(--hair)" />
      ))}
      {hours.map((hour) => (
        <rect
          key={hour.at_us}
          x={x(hour.at_us)}
          y={3}
          width={HOUR}
          height={Math.max(2, depthOfMos(hour.mos) * (HEIGHT - 3))}
          fill={paintMos(hour.mos)}
        />
      ))}
      {/* The surface is drawn where something was measured: a calm hour and one not measured differ without colour. */}
      <path
        d={hours.map((hour) => `M${x(hour.at_us)} 2h${HOUR}`).join("")}
        stroke="var(--ink)"
        strokeWidth={1.4}
      />
    </svg>
  );
}
