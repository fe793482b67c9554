// Seven days in a strip: an hour a cell, the worst call of the hour.
import type { Model } from "../api/client";
import { paintMos } from "./depth";

export function Strip({ hours }: { hours: Model<"StripHour">[] }) {
  if (hours.length === 0) return <span className="text-sm text-soft">no call counts yet</span>;
  const days = hours.length / 24;
  const width = days * 26;
  const bad = hours.filter((h) => h.mos !== null && h.mos < 4).length;
  const seen = hours.filter((h) => h.mos !== null).length;
  return (
    <svg
      viewBox={`0 0 ${width} 22`}
      className="h-[26px] w-full"
      preserveAspectRatio="none"
      role="img"
      aria-label={`${bad} of ${seen} hours in ${days} days had a call below 4 MOS`}
    >
      {hours.map((hour, i) =>
        hour.mos === null ? null : (
          <rect
            key={`${hour.day}-${hour.hour}`}
            x={Math.floor(i / 24) * 26 + (i % 24)}
            width={1.04}
            height={18}
            fill={paintMos(hour.mos)}
          />
        ),
      )}
      {/* Underlined where measured: a calm hour and one not measured differ without colour. */}
      <path
        d={hours
          .map((hour, i) => (hour.mos === null ? "" : `M${Math.floor(i / 24) * 26 + (i % 24)} 20.6h1.04`))
          .join("")}
        stroke="var(--soft)"
        strokeWidth={1.6}
      />
    </svg>
  );
}
