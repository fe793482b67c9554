// What if: a change asked of the site's own evidence, beside what was measured.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { get, type Model, post, remove } from "../../api/client";
import { Button, Field, INPUT, Note } from "../../ui/controls";
import { CheckField, DaysField, NumberField, SelectField, TimeField } from "../../ui/fields";
import { whole } from "../../ui/format";
import { Pending, Trail } from "../../ui/screen";
import { Outcomes } from "./what-if-outcomes";

type Page = Model<"WhatIfPage">;
type Form = Required<Model<"WhatIfForm">>;

const POLL_MS = 700;
const FACTORS = ["1", "1.5", "2", "3", "5", "10"];

const asItIs = (page: Page): Form => ({
  codec: page.codec,
  buffer_ms: null,
  adaptive: false,
  first_up: false,
  first_down: false,
  first_inside: false,
  line_up: 1,
  line_down: 1,
  target_mos: page.target_mos,
  required_share_pct: page.required_share_pct,
  needed_calls: page.needed_calls,
  open_minute: page.open_minute,
  close_minute: page.close_minute,
  open_days: page.open_days,
  from_day: null,
  until_day: null,
});

export function WhatIfScreen({ id }: { id: string }) {
  const page = useQuery({
    queryKey: ["what-if", id],
    queryFn: () => get("WhatIfPage", `/api/sites/${id}/what-if`),
    refetchInterval: (query) =>
      query.state.data?.tried.some((one) => one.state === "waiting" || one.state === "being tried")
        ? POLL_MS
        : false,
  });
  if (!page.data) return <Pending what="what was asked" error={page.error} />;
  return <Asked page={page.data} slug={id} />;
}

function Asked({ page, slug }: { page: Page; slug: string }) {
  const queries = useQueryClient();
  const [form, setForm] = useState<Form>(() => asItIs(page));
  const [problem, setProblem] = useState<string | null>(null);
  const set = (part: Partial<Form>) => setForm((was) => ({ ...was, ...part }));
  const keep = async (asked: Promise<Page>) => {
    try {
      queries.setQueryData(["what-if", slug], await asked);
      setProblem(null);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  const ask = (event: FormEvent) => {
    event.preventDefault();
    keep(post("WhatIfPage", `/api/sites/${slug}/what-if`, form));
  };
  const buffer = form.buffer_ms === null ? "" : form.adaptive ? "adaptive" : "fixed";
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          [`/sites/${slug}`, page.site_name],
        ]}
        title="What if"
      />
      <h1 className="mt-2 text-3xl tracking-tight">What if</h1>
      <p className="mt-1 max-w-3xl leading-snug text-soft">
        The site’s recorded packets as they would have come, judged by the same rules. The verdict and the
        report stay as they are.
      </p>
      <div className="mt-6 grid gap-x-12 gap-y-8 lg:grid-cols-[320px_1fr]">
        <form onSubmit={ask} className="min-w-0">
          <Group title="Network">
            <p className="text-sm text-soft">Media first at the router</p>
            <div className="flex gap-6">
              <CheckField label="Upload" value={form.first_up} onChange={(first_up) => set({ first_up })} />
              <CheckField
                label="Download"
                value={form.first_down}
                onChange={(first_down) => set({ first_down })}
              />
            </div>
            <CheckField
              label="Media first in the site’s switches"
              value={form.first_inside}
              onChange={(first_inside) => set({ first_inside })}
            />
            <div className="grid grid-cols-2 gap-4">
              <SelectField
                label="Upload rate"
                value={String(form.line_up)}
                onChange={(times) => set({ line_up: Number(times) })}
                options={rates(page.up_kbps)}
              />
              <SelectField
                label="Download rate"
                value={String(form.line_down)}
                onChange={(times) => set({ line_down: Number(times) })}
                options={rates(page.down_kbps)}
              />
            </div>
          </Group>
          <Group title="Phones">
            <SelectField
              label="Codec"
              value={form.codec ?? page.codec}
              onChange={(codec) => set({ codec })}
              options={page.codecs.map((one) => [one.name, one.title])}
            />
            <div className="grid grid-cols-2 gap-4">
              <SelectField
                label="Buffer"
                value={buffer}
                onChange={(kind) =>
                  set({
                    adaptive: kind === "adaptive",
                    buffer_ms: kind ? (form.buffer_ms ?? page.buffer_ms) : null,
                  })
                }
                options={[
                  ["", `as judged, ${page.buffer_ms} ms`],
                  ["fixed", "fixed"],
                  ["adaptive", "adaptive"],
                ]}
              />
              {buffer && (
                <NumberField
                  label={form.adaptive ? "At most" : "Depth"}
                  unit="ms"
                  value={form.buffer_ms}
                  onChange={(buffer_ms) => set({ buffer_ms: buffer_ms ?? 0 })}
                />
              )}
            </div>
          </Group>
          <Group title="Required">
            <div className="grid grid-cols-2 gap-4">
              <NumberField
                label="Quality of a call"
                unit="MOS"
                value={form.target_mos}
                onChange={(target_mos) => set({ target_mos })}
              />
              <NumberField
                label="Acceptable calls"
                unit="%"
                value={form.required_share_pct}
                onChange={(required_share_pct) => set({ required_share_pct })}
              />
              <NumberField
                label="Concurrent calls"
                value={form.needed_calls}
                onChange={(calls) => set({ needed_calls: whole(calls) })}
              />
            </div>
          </Group>
          <Group title="Period">
            <div className="grid grid-cols-2 gap-4">
              <TimeField
                label="Business hours from"
                value={form.open_minute ?? page.open_minute}
                onChange={(open_minute) => set({ open_minute })}
              />
              <TimeField
                label="to"
                value={form.close_minute ?? page.close_minute}
                onChange={(close_minute) => set({ close_minute })}
              />
            </div>
            <DaysField
              label="Business days"
              value={form.open_days ?? page.open_days}
              onChange={(open_days) => set({ open_days })}
            />
            <div className="grid grid-cols-2 gap-4">
              <DayField
                label="Calls from"
                value={form.from_day}
                page={page}
                onChange={(from_day) => set({ from_day })}
              />
              <DayField
                label="up to"
                value={form.until_day}
                page={page}
                onChange={(until_day) => set({ until_day })}
              />
            </div>
          </Group>
          {problem && (
            <div className="mt-4">
              <Note>{problem}</Note>
            </div>
          )}
          <div className="mt-5 flex gap-3">
            <Button act type="submit">
              Try it
            </Button>
            <Button type="button" onClick={() => setForm(asItIs(page))}>
              Reset
            </Button>
          </div>
        </form>
        <Outcomes
          page={page}
          onRemove={(one) => keep(remove("WhatIfPage", `/api/sites/${slug}/what-if/${one}`))}
        />
      </div>
    </>
  );
}

const rates = (kbps: number | null): [string, string][] =>
  FACTORS.map((factor) => [
    factor,
    factor === "1"
      ? "as it is"
      : `${factor} ×${kbps ? `, ${((kbps * Number(factor)) / 1000).toLocaleString("en-GB")} Mbit/s` : ""}`,
  ]);

function Group({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <fieldset className="hair mt-5 space-y-3 border-t pt-2 first:mt-0">
      <legend className="float-left mb-2 w-full font-semibold">{title}</legend>
      <div className="clear-both space-y-3">{children}</div>
    </fieldset>
  );
}

function DayField(props: {
  label: string;
  value: string | null;
  page: Page;
  onChange: (day: string | null) => void;
}) {
  return (
    <Field label={props.label}>
      <input
        type="date"
        className={INPUT}
        min={props.page.first_day ?? undefined}
        max={props.page.last_day ?? undefined}
        value={props.value ?? ""}
        onChange={(event) => props.onChange(event.target.value || null)}
      />
    </Field>
  );
}
