// Recurrences as people choose them, to and from RFC 5545 rules.

export interface Recurrence {
  every: "HOURLY" | "DAILY" | "WEEKLY";
  interval: number;
  /** ISO weekdays as digits; for WEEKLY. */
  days: string;
  times: number | null;
}

const DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

export function ruleOf({ every, interval, days, times }: Recurrence): string {
  const parts = [`FREQ=${every}`];
  if (interval > 1) parts.push(`INTERVAL=${interval}`);
  if (every === "WEEKLY" && days) parts.push(`BYDAY=${[...days].map((d) => DAYS[Number(d) - 1]).join(",")}`);
  if (times !== null) parts.push(`COUNT=${times}`);
  return parts.join(";");
}

/** Null for a rule that says more than the form can show. */
export function recurrenceOf(rule: string): Recurrence | null {
  const found: Recurrence = { every: "WEEKLY", interval: 1, days: "", times: null };
  for (const part of rule.toUpperCase().split(";")) {
    const [name, value = ""] = part.split("=");
    if (name === "FREQ" && ["HOURLY", "DAILY", "WEEKLY"].includes(value))
      found.every = value as Recurrence["every"];
    else if (name === "INTERVAL" && Number(value) > 0) found.interval = Number(value);
    else if (name === "COUNT" && Number(value) > 0) found.times = Number(value);
    else if (name === "BYDAY" && value.split(",").every((d) => DAYS.includes(d)))
      found.days = value
        .split(",")
        .map((d) => String(DAYS.indexOf(d) + 1))
        .join("");
    else return null;
  }
  return found;
}

const NAMES = ["Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays"];

export function ruleWords(rule: string): string {
  const found = recurrenceOf(rule);
  if (!found) return rule;
  const { every, interval, days, times } = found;
  const unit = { HOURLY: "hour", DAILY: "day", WEEKLY: "week" }[every];
  let words = interval === 1 ? `every ${unit}` : `every ${interval} ${unit}s`;
  if (every === "WEEKLY" && days) {
    const names = [...days].map((d) => NAMES[Number(d) - 1]);
    words = `${interval === 1 ? "" : `${words}, `}on ${names.join(", ")}`;
  }
  return times === null ? words : `${words}, ${times} times`;
}
