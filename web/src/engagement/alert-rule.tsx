// A rule for alerts in a dialog: its sentence, how it is sent, and when it would have fired in the past week.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { get, type Model } from "../api/client";
import { SpellStrip } from "../charts/spell-strip";
import { Button, Note } from "../ui/controls";
import { CheckField, NumberField, SelectField, TimeField } from "../ui/fields";
import { dateTime, plural } from "../ui/format";
import { useSettled } from "../ui/settled";
import { Sheet } from "../ui/sheet";

type Form = Model<"RuleForm">;
type Kind = Form["kind"];

const KINDS: readonly (readonly [Kind, string])[] = [
  ["loss", "A place loses packets"],
  ["delay", "The round trip to a place is long"],
  ["above-normal", "A place is slower than normal for the hour"],
  ["calls-below", "Calls fall below a MOS"],
  ["no-samples", "A watch brings no samples"],
  ["offline", "A probe is offline"],
  ["missed", "A planned load is missed"],
];
const PLACES = [
  ["gateway", "The gateway"],
  ["edge", "The provider’s edge"],
  ["outside", "An outside address"],
  ["far-end", "The far end"],
] as const;
const OF_A_PLACE: Kind[] = ["loss", "delay", "above-normal"];
const FOR_MINUTES: Kind[] = [...OF_A_PLACE, "no-samples", "offline"];

/** What a rule of its kind begins with. */
const FIRST: Record<Kind, Partial<Form>> = {
  loss: { role: "gateway", limit: 2, minutes: 3 },
  delay: { role: "far-end", limit: 150, minutes: 5 },
  "above-normal": { role: "far-end", minutes: 10 },
  "calls-below": { limit: 3.8, count: 5, of: 6 },
  "no-samples": { minutes: 10 },
  offline: { minutes: 10 },
  missed: {},
};
const BARE = { role: null, limit: 0, minutes: 0, count: 0, of: 0 };

interface Props {
  engagement: string;
  page: Model<"AlertsPage">;
  /** The rule to change; none makes a new one. */
  of?: Model<"RuleView">;
  onSave: (form: Form) => Promise<string | null>;
  children: ReactNode;
}

export function AlertRuleDialog(props: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>{props.children}</Dialog.Trigger>
      <Sheet title={props.of ? "Edit the rule" : "A new rule"} width={760}>
        <RuleFields {...props} onClose={() => setOpen(false)} />
      </Sheet>
    </Dialog.Root>
  );
}

function begun({ of, page }: Props): Form {
  if (of) {
    const { id: _id, sentence: _sentence, site_name: _name, open: _open, ...form } = of;
    return form;
  }
  return {
    kind: "loss",
    ...BARE,
    ...FIRST.loss,
    site_slug: null,
    mail: page.targets.addresses.length > 0,
    webhook: page.targets.webhook_url !== "",
    collect: false,
    quiet_from: null,
    quiet_until: null,
  };
}

function RuleFields(props: Props & { onClose: () => void }) {
  const { page } = props;
  const [form, setForm] = useState<Form>(() => begun(props));
  const [problem, setProblem] = useState<string | null>(null);
  const set = (changed: Partial<Form>) => setForm((before) => ({ ...before, ...changed }));
  const measured = OF_A_PLACE.includes(form.kind) || form.kind === "calls-below";
  const save = async () => {
    const said = await props.onSave(form);
    setProblem(said);
    if (said === null) props.onClose();
  };
  return (
    <form
      className="mt-4 space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        save();
      }}
    >
      <div className="grid gap-4 sm:grid-cols-2">
        <SelectField
          label="When"
          value={form.kind}
          options={KINDS}
          onChange={(kind) => set({ ...BARE, ...FIRST[kind as Kind], kind: kind as Kind })}
        />
        <SelectField
          label="At"
          value={form.site_slug ?? ""}
          options={[["", "All sites"], ...page.sites.map((site) => [site.slug, site.name] as const)]}
          onChange={(slug) => set({ site_slug: slug || null })}
        />
      </div>
      <Numbers form={form} set={set} />
      <Tried engagement={props.engagement} form={form} />
      <fieldset className="hair space-y-2 border-t pt-3">
        <legend className="sr-only">How it is sent</legend>
        <p className="text-sm text-soft">Shown on this page, and sent:</p>
        <CheckField
          label="By email"
          value={form.mail ?? false}
          onChange={(mail) => set({ mail })}
          {...(page.targets.addresses.length
            ? {}
            : { hint: "No address is set yet; set one under Sent to." })}
        />
        <CheckField
          label="To the webhook"
          value={form.webhook ?? false}
          onChange={(webhook) => set({ webhook })}
          {...(page.targets.webhook_url ? {} : { hint: "No webhook is set yet; set one under Sent to." })}
        />
        {measured && (
          <CheckField
            label="Have the probe check its network at that moment"
            hint="Path, names, services and a short call, two minutes; once an hour at the most."
            value={form.collect ?? false}
            onChange={(collect) => set({ collect })}
          />
        )}
        <CheckField
          label="Quiet hours"
          hint="By the site’s clock. What happens in them is sent when they end."
          value={form.quiet_from !== null}
          onChange={(on) =>
            set(on ? { quiet_from: 1320, quiet_until: 420 } : { quiet_from: null, quiet_until: null })
          }
        />
        {form.quiet_from != null && form.quiet_until != null && (
          <div className="grid max-w-xs grid-cols-2 gap-4 pl-6">
            <TimeField
              label="From"
              value={form.quiet_from}
              onChange={(minute) => set({ quiet_from: minute % 1440 })}
            />
            <TimeField
              label="To"
              value={form.quiet_until}
              onChange={(minute) => set({ quiet_until: minute % 1440 })}
            />
          </div>
        )}
      </fieldset>
      {problem && <Note>{problem}</Note>}
      <div className="flex flex-wrap gap-3">
        <Button act type="submit">
          {props.of ? "Save" : "Create rule"}
        </Button>
        <Dialog.Close asChild>
          <Button>Cancel</Button>
        </Dialog.Close>
      </div>
    </form>
  );
}

function Numbers({ form, set }: { form: Form; set: (changed: Partial<Form>) => void }) {
  const number = (
    label: string,
    value: number | undefined,
    to: (n: number) => Partial<Form>,
    unit?: string,
  ) => (
    <NumberField
      label={label}
      value={value ?? null}
      onChange={(n) => set(to(n ?? 0))}
      {...(unit ? { unit } : {})}
    />
  );
  return (
    <div className="grid gap-4 sm:grid-cols-3">
      {OF_A_PLACE.includes(form.kind) && (
        <SelectField
          label="Place"
          value={form.role ?? "gateway"}
          options={PLACES}
          onChange={(role) => set({ role: role as NonNullable<Form["role"]> })}
        />
      )}
      {form.kind === "loss" && number("More than", form.limit, (limit) => ({ limit }), "%")}
      {form.kind === "delay" && number("Over", form.limit, (limit) => ({ limit }), "ms")}
      {form.kind === "calls-below" && (
        <>
          {number("Below", form.limit, (limit) => ({ limit }), "MOS")}
          {number("In", form.count, (count) => ({ count }), "tests")}
          {number("Of the newest", form.of, (of) => ({ of }), "tests")}
        </>
      )}
      {FOR_MINUTES.includes(form.kind) && number("For", form.minutes, (minutes) => ({ minutes }), "min")}
    </div>
  );
}

const LOOK_MS = 300;

function Tried({ engagement, form }: { engagement: string; form: Form }) {
  const asked = new URLSearchParams({ kind: form.kind });
  for (const name of ["role", "limit", "minutes", "count", "of", "site_slug"] as const) {
    if (form[name]) asked.set(name, String(form[name]));
  }
  const settled = useSettled(asked.toString());
  const tried = useQuery({
    queryKey: ["alert trial", engagement, settled],
    queryFn: () => get("TrialView", `/api/engagements/${engagement}/alerts/try?${settled}`),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => (state.data?.waiting && !state.data.waiting.given_up ? LOOK_MS : false),
    retry: false,
  });
  if (tried.error) return <Note>{tried.error.message}</Note>;
  const waiting = tried.data?.waiting;
  if (waiting?.held_up || waiting?.given_up) return <Note>{waiting.words}</Note>;
  if (!tried.data?.week) {
    return (
      <section aria-label="The past week" className="hair border-t pt-3">
        {tried.data && <p className="text-lg">{tried.data.sentence}</p>}
        <p className="mt-1 text-soft">Trying it on the past week …</p>
      </section>
    );
  }
  const { sentence } = tried.data;
  const { count, fired, note, from_us, until_us } = tried.data.week;
  return (
    <section aria-label="The past week" className="hair border-t pt-3">
      <p className="text-lg">{sentence}</p>
      <p className="mt-1">
        {count === 0
          ? "In the past week it would not have fired."
          : `In the past week it would have fired ${plural(count, "time")}.`}{" "}
        <span className="text-soft">{note}</span>
      </p>
      {count > 0 && <SpellStrip from={from_us} until={until_us} spells={fired} width={700} />}
      {count > 0 && (
        <ul className="mt-1 max-h-36 overflow-y-auto text-sm" aria-label="Newest first">
          {fired.slice(0, 30).map((one) => (
            <li key={`${one.site_name} ${one.from_us} ${one.says}`} className="hair border-t py-1">
              <span className="text-soft">{dateTime(one.from_us, one.time_zone)}</span> {one.site_name}:{" "}
              {one.says}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
