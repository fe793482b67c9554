// Recurrences as people choose them, to and from RFC 5545 rules.

export interface Recurrence {
  every: "HOURLY" | "DAILY" | "WEEKLY";
  interval: number;
  /** ISO weekdays as digits; for WEEKLY. */
  days: string;
  /** Of the day, as "9,10"; empty: at the time of the first start. */
  hours: string;
  /** Of each such hour. */
  minutes: string;
  times: number | null;
}

const DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

export function ruleOf({ every, interval, days, hours, minutes, times }: Recurrence): string {
  const parts = [`FREQ=${every}`];
  if (interval > 1) parts.push(`INTERVAL=${interval}`);
  if (every === "WEEKLY" && days) parts.push(`BYDAY=${[...days].map((d) => DAYS[Number(d) - 1]).join(",")}`);
  if (hours) parts.push(`BYHOUR=${hours}`);
  if (minutes) parts.push(`BYMINUTE=${minutes}`);
  if (times !== null) parts.push(`COUNT=${times}`);
  return parts.join(";");
}

/** Null for a rule that says more than the form can show. */
export function recurrenceOf(rule: string): Recurrence | null {
  const found: Recurrence = { every: "WEEKLY", interval: 1, days: "", hours: "", minutes: "", times: null };
  for (const part of rule.toUpperCase().split(";")) {
    const [name, value = ""] = part.split("=");
    if (name === "FREQ" && ["HOURLY", "DAILY", "WEEKLY"].includes(value))
      found.every = value as Recurrence["every"];
    else if (name === "INTERVAL" && Number(value) > 0) found.interval = Number(value);
    else if (name === "COUNT" && Number(value) > 0) found.times = Number(value);
    else if (name === "BYHOUR" && LIST.test(value)) found.hours = value;
    else if (name === "BYMINUTE" && LIST.test(value)) found.minutes = value;
    else if (name === "BYDAY" && value.split(",").every((d) => DAYS.includes(d)))
      found.days = value
        .split(",")
        .map((d) => String(DAYS.indexOf(d) + 1))
        .join("");
    else return null;
  }
  return found;
}

const LIST = /^\d{1,2}(,\d{1,2})*$/;

const NAMES = ["Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays"];

export function ruleWords(rule: string): string {
  const found = recurrenceOf(rule);
  if (!found) return rule;
  const { every, interval, days, hours, times } = found;
  const unit = { HOURLY: "hour", DAILY: "day", WEEKLY: "week" }[every];
  let words = interval === 1 ? `every ${unit}` : `every ${interval} ${unit}s`;
  if (every === "WEEKLY" && days) {
    const names = [...days].map((d) => NAMES[Number(d) - 1]);
    words = `${interval === 1 ? "" : `${words}, `}on ${names.join(", ")}`;
  }
  if (hours) words += `, ${timesOfDay(found)}`;
  return times === null ? words : `${words}, ${times === 1 ? "once" : `${times} times`}`;
}

/** "at 9:05", or "24 times a day from 9:05 to 16:45". */
function timesOfDay({ hours, minutes }: Recurrence): string {
  const all = hours
    .split(",")
    .flatMap((hour) => (minutes || "0").split(",").map((minute) => Number(hour) * 60 + Number(minute)))
    .sort((a, b) => a - b);
  const at = (minute: number) => `${Math.floor(minute / 60)}:${String(minute % 60).padStart(2, "0")}`;
  const [first = 0, last = 0] = [all[0], all[all.length - 1]];
  return all.length === 1 ? `at ${at(first)}` : `${all.length} times a day from ${at(first)} to ${at(last)}`;
}
