// Parts of the day side by side, weekdays against weekends: what a place answered in them, and their worst moment.
import { useState } from "react";
import type { Model } from "../../api/client";
import { Section } from "../../ui/controls";
import { DASH, dateTime, ms, pct } from "../../ui/format";
import { Wide } from "../../ui/wide";

type Place = Model<"PlaceParts">;
type Part = Model<"DayPart">;

const PARTS = ["night", "morning", "noon", "afternoon", "evening"] as const;
const ROLES = {
  gateway: "Gateway",
  edge: "Provider’s edge",
  outside: "Outside",
  "far-end": "Far end",
} as const;
const TEN_US = 600e6;

interface Props {
  places: Place[];
  zone: string;
  onOpen: (from: number, until: number) => void;
}

export function DayParts({ places, zone, onOpen }: Props) {
  const asked = places.filter((one) => one.parts.length > 0);
  const farthest = Math.max(
    0,
    asked.findIndex((one) => one.role === "far-end"),
  );
  const [chosen, setChosen] = useState(farthest);
  const place = asked[chosen] ?? asked[0];
  if (!place) return null;
  return (
    <Section title="By part of the day" aside="weekdays against weekends, over the days of the sheet">
      <label className="flex items-center gap-1.5 text-sm">
        Place
        <select
          className="border border-soft bg-raised px-1.5 py-0.5"
          value={asked.indexOf(place)}
          onChange={(event) => setChosen(Number(event.target.value))}
        >
          {asked.map((one, i) => (
            <option key={`${one.role} ${one.name}`} value={i}>
              {ROLES[one.role]} {one.name}
            </option>
          ))}
        </select>
      </label>
      <Wide label="Parts of the day">
        <table className="mt-2 w-full border-collapse text-[15px]">
          <thead>
            <tr className="text-left text-sm text-soft [&>th]:py-1 [&>th]:pr-5 [&>th]:font-normal">
              <th />
              <th colSpan={4}>Weekdays</th>
              <th colSpan={4}>Weekends</th>
            </tr>
            <tr className="rule text-sm text-soft [&>th]:py-1.5 [&>th]:pr-5 [&>th]:text-right [&>th]:font-normal">
              <th className="!text-left">Part</th>
              {[false, true].map((weekend) => (
                <Heads key={String(weekend)} />
              ))}
            </tr>
          </thead>
          <tbody>
            {PARTS.map((name) => (
              <tr key={name} className="hair border-t [&>td]:py-1.5 [&>td]:pr-5 [&>td]:text-right">
                <td className="!text-left">{words(name, place.parts)}</td>
                {[false, true].map((weekend) => (
                  <Cells
                    key={String(weekend)}
                    part={place.parts.find((one) => one.name === name && one.weekend === weekend)}
                    zone={zone}
                    onOpen={onOpen}
                  />
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="mt-1 text-sm text-soft">
        Of ten minutes each: the median of their medians, the 95th percentile of their 95th percentiles, and
        the ten minutes with the longest 95th percentile.
      </p>
    </Section>
  );
}

function Heads() {
  return (
    <>
      <th>Lost</th>
      <th>Median</th>
      <th>95th percentile</th>
      <th>Worst ten minutes</th>
    </>
  );
}

function words(name: (typeof PARTS)[number], parts: Part[]) {
  const seen = parts.find((one) => one.name === name);
  return (
    <>
      {name}
      {seen && <span className="text-sm text-soft"> from {seen.from_hour}:00</span>}
    </>
  );
}

function Cells({ part, zone, onOpen }: { part: Part | undefined; zone: string; onOpen: Props["onOpen"] }) {
  if (!part)
    return (
      <>
        {["lost", "median", "high", "worst"].map((name) => (
          <td key={name} title="not sampled">
            {DASH}
          </td>
        ))}
      </>
    );
  const { worst_us: at } = part;
  return (
    <>
      <td>{pct((100 * part.lost) / part.sent, 2)}</td>
      <td>{ms(part.p50_ms, 1)}</td>
      <td>{ms(part.p95_ms, 1)}</td>
      <td className="whitespace-nowrap">
        {at == null ? (
          DASH
        ) : (
          <button
            type="button"
            className="underline underline-offset-3"
            onClick={() => onOpen(at, at + TEN_US)}
          >
            {ms(part.worst_ms, 1)}, {dateTime(at, zone)}
          </button>
        )}
      </td>
    </>
  );
}
