// Fields that hold one kind of value: a number with its unit, a time of day, weekdays, a switch.
import { type ReactNode, useEffect, useId, useState } from "react";
import { Field, INPUT } from "./controls";

interface NumberFieldProps {
  label: string;
  value: number | null;
  onChange: (value: number | null) => void;
  unit?: string;
  hint?: ReactNode;
  placeholder?: string;
}

/** Text while it is typed, a number or nothing to whoever asks. */
export function NumberField({ label, value, onChange, unit, hint, placeholder }: NumberFieldProps) {
  const [text, setText] = useState(value === null ? "" : String(value));
  const [typing, setTyping] = useState(false);
  useEffect(() => {
    // Set from outside, as by a preset; what is being typed stays as it is typed, be it empty for a moment.
    if (typing) return;
    setText((shown) => (parsed(shown) === value ? shown : value === null ? "" : String(value)));
  }, [value, typing]);
  return (
    <Field label={label} hint={hint}>
      {(hintId) => (
        <span className="relative block">
          <input
            aria-describedby={hintId}
            className={`${INPUT} ${unit ? "pr-16" : ""}`}
            inputMode="decimal"
            value={text}
            placeholder={placeholder}
            onFocus={() => setTyping(true)}
            onBlur={() => setTyping(false)}
            onChange={(event) => {
              setText(event.target.value);
              onChange(parsed(event.target.value));
            }}
          />
          {unit && (
            <span className="pointer-events-none absolute top-2 right-2.5 text-sm text-soft">{unit}</span>
          )}
        </span>
      )}
    </Field>
  );
}

function parsed(text: string): number | null {
  const plain = text.trim().replace(",", ".");
  if (plain === "") return null;
  const value = Number(plain);
  return Number.isFinite(value) ? value : null;
}

interface TextFieldProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  hint?: ReactNode;
  placeholder?: string;
  /** Not shown while it is typed, and not what this browser remembers. */
  secret?: boolean;
}

export function TextField({ label, value, onChange, hint, placeholder, secret }: TextFieldProps) {
  return (
    <Field label={label} hint={hint}>
      <input
        className={INPUT}
        type={secret ? "password" : undefined}
        autoComplete={secret ? "new-password" : undefined}
        value={value}
        placeholder={placeholder}
        onChange={(event) => onChange(event.target.value)}
      />
    </Field>
  );
}

type TextAreaProps = Omit<TextFieldProps, "secret"> & { rows?: number };

/** Several lines of text. */
export function TextAreaField({ label, value, onChange, hint, placeholder, rows = 4 }: TextAreaProps) {
  return (
    <Field label={label} hint={hint}>
      <textarea
        className={INPUT}
        rows={rows}
        value={value}
        placeholder={placeholder}
        onChange={(event) => onChange(event.target.value)}
      />
    </Field>
  );
}

/** A minute of the day as 8:30; 24:00 is its end. */
export function TimeField(props: { label: string; value: number; onChange: (minute: number) => void }) {
  const [text, setText] = useState(minuteWords(props.value));
  const wrong = minuteOf(text) === null;
  return (
    <Field label={props.label} hint={wrong ? "as 8:30, up to 24:00" : undefined}>
      <input
        className={INPUT}
        value={text}
        aria-invalid={wrong}
        // What is no time is not saved as another one: the form waits until it is.
        ref={(field) => field?.setCustomValidity(wrong ? "Write a time of day as 8:30, up to 24:00." : "")}
        onChange={(event) => {
          setText(event.target.value);
          const minute = minuteOf(event.target.value);
          if (minute !== null) props.onChange(minute);
        }}
        onBlur={() => !wrong && setText(minuteWords(props.value))}
      />
    </Field>
  );
}

export function minuteWords(minute: number): string {
  return `${Math.floor(minute / 60)}:${String(minute % 60).padStart(2, "0")}`;
}

function minuteOf(text: string): number | null {
  const found = /^\s*(\d{1,2})(?:[:.](\d{2}))?\s*$/.exec(text);
  if (!found) return null;
  const minutes = Number(found[2] ?? 0);
  const minute = Number(found[1]) * 60 + minutes;
  return minutes < 60 && minute <= 1440 ? minute : null;
}

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/** Weekdays as digits, Monday 1. */
export function DaysField(props: { label: string; value: string; onChange: (days: string) => void }) {
  return (
    <fieldset>
      <legend className="text-sm text-soft">{props.label}</legend>
      <div className="mt-0.5 flex">
        {DAYS.map((name, i) => {
          const digit = String(i + 1);
          const on = props.value.includes(digit);
          const next = on ? props.value.replace(digit, "") : [...props.value, digit].sort().join("");
          return (
            <button
              key={name}
              type="button"
              aria-pressed={on}
              onClick={() => props.onChange(next)}
              className={`-ml-px border border-soft px-2 py-1.5 text-sm first:ml-0 ${on ? "bg-ink text-paper" : "bg-raised"}`}
            >
              {name}
            </button>
          );
        })}
      </div>
    </fieldset>
  );
}

export function CheckField(props: {
  label: string;
  hint?: string;
  value: boolean;
  onChange: (on: boolean) => void;
}) {
  const id = useId();
  return (
    <div className="flex gap-2.5">
      <input
        id={id}
        type="checkbox"
        className="mt-1 h-4 w-4 accent-[var(--ink)]"
        aria-describedby={props.hint ? `${id}-hint` : undefined}
        checked={props.value}
        onChange={(event) => props.onChange(event.target.checked)}
      />
      <div className="leading-snug">
        <label htmlFor={id}>{props.label}</label>
        {props.hint && (
          <span id={`${id}-hint`} className="block text-sm text-soft">
            {props.hint}
          </span>
        )}
      </div>
    </div>
  );
}

interface SelectFieldProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: readonly (readonly [string, string])[];
  hint?: ReactNode;
}

export function SelectField({ label, value, onChange, options, hint }: SelectFieldProps) {
  return (
    <Field label={label} hint={hint}>
      <select className={INPUT} value={value} onChange={(event) => onChange(event.target.value)}>
        {options.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    </Field>
  );
}
