// Which far ends a test goes to.
import type { Model } from "../api/client";
import { ms } from "../ui/format";
import { Part } from "./part";
import { roundTripMs } from "./round-trip";

type FarEnd = Model<"TestFarEnd">;

/** Of one far end its number. */
export type Where = "nearest" | "all" | number;

/** There and back in milliseconds, or why that is not known. */
export type Trips = ReadonlyMap<number, number | string>;

export function WhereTo({
  farEnds,
  trips,
  where,
  choose,
}: {
  farEnds: FarEnd[];
  trips: Trips;
  where: Where;
  choose: (where: Where) => void;
}) {
  const choices: { where: Where; name: string; note: string }[] = [
    { where: "nearest", name: "The nearest of these", note: "each is asked first how far it is" },
    ...farEnds.map((one) => ({
      where: one.id,
      name: one.place ? `${one.name}, ${one.place}` : one.name,
      note: distance(one, trips),
    })),
    {
      where: "all",
      name: "All of these, one after the other",
      note: `${times(farEnds.length)} as long, with ${times(farEnds.length)} the data`,
    },
  ];
  return (
    <Part title="Where to">
      <fieldset className="space-y-2">
        <legend className="sr-only">Where to test to</legend>
        {choices.map((one) => (
          <label key={one.where} className="flex items-baseline gap-2 leading-snug">
            <input
              type="radio"
              name="far-end"
              checked={one.where === where}
              onChange={() => choose(one.where)}
            />
            <span>
              {one.name}
              {one.note && <span className="text-soft"> · {one.note}</span>}
            </span>
          </label>
        ))}
      </fieldset>
    </Part>
  );
}

const times = (count: number) => (count === 2 ? "twice" : `${count} times`);

function distance(one: FarEnd, trips: Trips): string {
  const tripMs = trips.get(one.id);
  if (typeof tripMs === "string") return tripMs;
  if (tripMs !== undefined) return `${ms(tripMs)} there and back from this browser`;
  return one.connect_ms === null ? "" : `${ms(one.connect_ms)} to connect from a probe at this site`;
}

/**
 * Asks each; ``tell`` hears which is being asked, and what is known so far. What was measured ``before`` stands where one
 * cannot be asked again yet.
 */
export async function measure(
  code: string,
  farEnds: FarEnd[],
  before: Trips,
  tell: (asked: FarEnd, trips: Trips) => void,
): Promise<Trips> {
  const trips = new Map<number, number | string>();
  for (const one of farEnds) {
    tell(one, new Map(trips));
    // One that cannot be tested to is no reason not to ask the others.
    try {
      trips.set(one.id, (await roundTripMs(code, one.id)) ?? "no packet came back to this browser");
    } catch (error) {
      const known = before.get(one.id);
      const why = error instanceof Error ? error.message : String(error);
      trips.set(one.id, typeof known === "number" ? known : why);
    }
  }
  return trips;
}

/** The nearest first; those that were not reached keep their order behind them. */
export function nearest(farEnds: FarEnd[], trips: Trips): FarEnd | undefined {
  const far = (one: FarEnd) => {
    const tripMs = trips.get(one.id);
    return typeof tripMs === "number" ? tripMs : Number.POSITIVE_INFINITY;
  };
  return [...farEnds].sort((a, b) => (far(a) === far(b) ? 0 : far(a) - far(b)))[0];
}
