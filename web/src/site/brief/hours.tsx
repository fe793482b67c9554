// When the site works, and when no test may load it.
import { Section } from "../../ui/controls";
import { DaysField, minuteWords, SelectField, TextField, TimeField } from "../../ui/fields";
import { Rows } from "../../ui/rows";
import type { Page, PartProps } from "./part";

export function Hours({ page, form, change }: PartProps & { page: Page }) {
  return (
    <Section title="Hours">
      <div className="grid lg:grid-cols-[1.4fr_auto_90px_90px] gap-x-5">
        <SelectField
          label="Time zone"
          value={form.time_zone ?? "UTC"}
          options={page.time_zones.map((zone) => [zone, zone] as const)}
          onChange={(time_zone) => change({ time_zone })}
        />
        <DaysField
          label="Business days"
          value={form.open_days ?? ""}
          onChange={(open_days) => change({ open_days })}
        />
        <TimeField
          label="Opens"
          value={form.open_minute ?? 480}
          onChange={(open_minute) => change({ open_minute })}
        />
        <TimeField
          label="Closes"
          value={form.close_minute ?? 1080}
          onChange={(close_minute) => change({ close_minute })}
        />
      </div>
      <p className="mt-5 mb-2 text-sm text-soft">
        Hours in which no test load may be placed, whatever was planned:
      </p>
      <Rows
        rows={form.blackouts ?? []}
        onChange={(blackouts) => change({ blackouts })}
        make={() => ({ days: "12345", from_minute: 720, to_minute: 780, why: "" })}
        add="Add hours without load"
        columns="auto 80px 80px 1fr"
        name={(row) => `${minuteWords(row.from_minute)} to ${minuteWords(row.to_minute)}`}
      >
        {(row, set) => (
          <>
            <DaysField label="On" value={row.days ?? ""} onChange={(days) => set({ days })} />
            <TimeField
              label="From"
              value={row.from_minute}
              onChange={(from_minute) => set({ from_minute })}
            />
            <TimeField label="To" value={row.to_minute} onChange={(to_minute) => set({ to_minute })} />
            <TextField label="Reason" value={row.why ?? ""} onChange={(why) => set({ why })} />
          </>
        )}
      </Rows>
    </Section>
  );
}
