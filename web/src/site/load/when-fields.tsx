// When a load begins: now, at a time of the site's own clock, or again and again.
import type { ReactNode } from "react";
import { Field, INPUT } from "../../ui/controls";
import { DaysField, NumberField, SelectField, TextField } from "../../ui/fields";
import { type Recurrence, recurrenceOf, ruleOf, ruleWords } from "./rule";

export type When = "now" | "at" | "repeat" | "draft";
const WORDS: Record<When, string> = {
  now: "Now",
  at: "At a time",
  repeat: "Recurring",
  draft: "Save as draft",
};

export function WhenFields<T extends When>({
  when,
  startLocal,
  rule,
  timeZone,
  choices,
  onChange,
}: {
  when: T;
  /** The site's wall clock. */
  startLocal: string | null;
  rule: string | null;
  timeZone: string;
  choices: T[];
  onChange: (next: { when: T; startLocal: string | null; rule: string | null }) => void;
}) {
  return (
    <>
      <Choice
        label="When"
        value={when}
        options={choices.map((one) => [one, WORDS[one]])}
        onChange={(next) =>
          onChange({
            when: next,
            startLocal: startLocal ?? tomorrowAtTen(timeZone),
            rule: next === "repeat" ? (rule ?? "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR") : rule,
          })
        }
      />
      {(when === "at" || when === "repeat") && (
        <div className="mt-3 grid lg:grid-cols-[240px_1fr] items-start gap-x-5 gap-y-4">
          <Field label={when === "at" ? "Start" : "First start"} hint={`${timeZone}, the site’s own time`}>
            <input
              type="datetime-local"
              className={INPUT}
              value={startLocal ?? ""}
              onChange={(event) => onChange({ when, startLocal: event.target.value, rule })}
            />
          </Field>
          {when === "repeat" && (
            <Repeat rule={rule ?? ""} onChange={(next) => onChange({ when, startLocal, rule: next })} />
          )}
        </div>
      )}
    </>
  );
}

function Repeat({ rule, onChange }: { rule: string; onChange: (rule: string) => void }) {
  const found = recurrenceOf(rule);
  const set = (part: Partial<Recurrence>) => found && onChange(ruleOf({ ...found, ...part }));
  return (
    <div className="space-y-3">
      {found && (
        <div className="grid lg:grid-cols-[110px_130px_1fr] gap-x-4">
          <Whole label="Every" value={found.interval} onChange={(interval) => set({ interval })} />
          <SelectField
            label="of"
            value={found.every}
            options={[
              ["HOURLY", "hours"],
              ["DAILY", "days"],
              ["WEEKLY", "weeks"],
            ]}
            onChange={(every) => set({ every: every as Recurrence["every"] })}
          />
          <NumberField
            label="Ends after"
            value={found.times}
            placeholder="never"
            onChange={(times) => set({ times: times === null ? null : Math.max(1, Math.round(times)) })}
          />
        </div>
      )}
      {found?.every === "WEEKLY" && (
        <DaysField label="On" value={found.days} onChange={(days) => set({ days })} />
      )}
      <TextField
        label="As a rule of RFC 5545"
        value={rule}
        onChange={onChange}
        hint={found?.hours && ruleWords(rule)}
      />
    </div>
  );
}

export function Whole(props: { label: string; value: number; onChange: (value: number) => void }) {
  return (
    <NumberField
      label={props.label}
      value={props.value}
      onChange={(value) => {
        // An empty field is one being typed in, not a 1.
        if (value !== null) props.onChange(Math.max(1, Math.round(value)));
      }}
    />
  );
}

export function Choice<T extends string>(props: {
  label: string;
  value: T;
  options: [T, ReactNode][];
  onChange: (value: T) => void;
}) {
  return (
    <fieldset className="mt-6">
      <legend className="text-sm text-soft">{props.label}</legend>
      <div className="mt-0.5 flex">
        {props.options.map(([key, words]) => (
          <button
            key={key}
            type="button"
            aria-pressed={key === props.value}
            onClick={() => props.onChange(key)}
            className={`-ml-px border border-ink px-3 py-1.5 first:ml-0 ${key === props.value ? "bg-ink text-paper" : "bg-raised"}`}
          >
            {words}
          </button>
        ))}
      </div>
    </fieldset>
  );
}

function tomorrowAtTen(timeZone: string): string {
  const day = new Date(Date.now() + 86_400_000).toLocaleDateString("sv-SE", { timeZone });
  return `${day}T10:00`;
}
