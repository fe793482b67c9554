// The brief: what is known of a site and what it must carry, with the arithmetic beside it.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model, post, put } from "../api/client";
import { Button, LinkButton, Note, Section } from "../shared/controls";
import {
  CheckField,
  DaysField,
  minuteWords,
  NumberField,
  SelectField,
  TextField,
  TimeField,
} from "../shared/fields";
import { Pending, Trail } from "../shared/screen";
import { Arithmetic } from "./arithmetic";
import { Rows } from "./rows";
import { TargetsSection } from "./targets";

type Form = Model<"BriefForm">;
type Page = Model<"BriefPage">;

/** The brief of a site that exists. */
export function BriefScreen({ id }: { id: string }) {
  return <Loaded path={`/api/sites/${id}/brief`} />;
}

/** The brief of a site that is being made. */
export function NewSiteScreen({ id }: { id: string }) {
  return <Loaded path={`/api/engagements/${id}/brief`} />;
}

function Loaded({ path }: { path: string }) {
  const page = useQuery({
    queryKey: ["brief", path],
    queryFn: () => get("BriefPage", path),
    // What is being written must not be overwritten by what was read.
    refetchOnWindowFocus: false,
    gcTime: 0,
  });
  if (!page.data) return <Pending what="the brief" error={page.error} />;
  return <Editor page={page.data} />;
}

function Editor({ page }: { page: Page }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [form, setForm] = useState<Form>(page.form);
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const change = (part: Partial<Form>) => setForm((before) => ({ ...before, ...part }));
  const site = page.site_slug;
  const back = site ? `/sites/${site}` : `/engagements/${page.engagement_slug}`;

  const save = async () => {
    setBusy(true);
    setProblem(null);
    try {
      const made = site
        ? await put("Made", `/api/sites/${site}/brief`, form)
        : await post("Made", `/api/engagements/${page.engagement_slug}/sites`, form);
      await queries.invalidateQueries();
      navigate(`/sites/${made.slug}`);
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };

  return (
    <>
      <Trail
        steps={[
          ["/", "Engagements"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          ...(site ? ([[`/sites/${site}`, page.form.name]] as [string, string][]) : []),
        ]}
        title={site ? `Brief of ${page.form.name}` : "New site"}
      />
      <h1 className="mt-2 text-3xl tracking-tight">{site ? `Brief of ${page.form.name}` : "A new site"}</h1>
      <form
        className="grid grid-cols-[1fr_360px] gap-10"
        onSubmit={(event) => {
          event.preventDefault();
          save();
        }}
      >
        <div>
          <WhatItCarries page={page} form={form} change={change} />
          <TheLine form={form} change={change} />
          <Section title="What makes a call acceptable, and what proves the site">
            <TargetsSection
              page={page}
              targets={form.targets as Model<"TargetsForm">}
              onChange={(targets) => change({ targets })}
            />
          </Section>
          <Hours page={page} form={form} change={change} />
          <People form={form} change={change} />
          <div className="rule sticky bottom-0 mt-9 bg-paper py-4">
            {problem && (
              <div className="mb-3">
                <Note>{problem}</Note>
              </div>
            )}
            <div className="flex gap-3">
              <Button act type="submit" disabled={busy}>
                {site ? "Keep the brief" : "Make the site"}
              </Button>
              <LinkButton to={back}>{site ? "Leave it as it was" : "Not now"}</LinkButton>
            </div>
          </div>
        </div>
        <div className="pt-9">
          <Arithmetic form={form} />
        </div>
      </form>
    </>
  );
}

interface PartProps {
  form: Form;
  change: (part: Partial<Form>) => void;
}

function WhatItCarries({ page, form, change }: PartProps & { page: Page }) {
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const codec = codecs.data?.codecs.find((c) => c.name === form.codec);
  const stated = form.stated_calls != null;
  const profiles = page.video_profiles.map((p) => [p.name, `${p.title}, ${p.kbps} kbit/s`] as const);
  return (
    <Section title="What the site must carry">
      <div className="grid grid-cols-2 gap-x-8 gap-y-4">
        <TextField label="Name of the site" value={form.name} onChange={(name) => change({ name })} />
        <TextField
          label="What and where, in a few words"
          value={form.place ?? ""}
          onChange={(place) => change({ place })}
          placeholder="Depot, Skerry Road"
        />
      </div>
      <div className="mt-4 grid grid-cols-4 gap-x-5 gap-y-4">
        <NumberField
          label="People"
          value={form.people ?? null}
          onChange={(people) => change({ people: whole(people) })}
        />
        {!stated && (
          <>
            <NumberField
              label="Calls each, busy hour"
              value={form.calls_per_hour ?? null}
              onChange={(calls_per_hour) => change({ calls_per_hour })}
            />
            <NumberField
              label="Length of a call"
              unit="min"
              value={form.minutes_per_call ?? null}
              onChange={(minutes_per_call) => change({ minutes_per_call })}
            />
            <NumberField
              label="May find no room"
              unit="%"
              value={form.blocking_pct ?? null}
              onChange={(blocking_pct) => change({ blocking_pct })}
            />
          </>
        )}
        {stated && (
          <NumberField
            label="Calls at once"
            value={form.stated_calls ?? null}
            onChange={(calls) => change({ stated_calls: whole(calls) ?? 1 })}
          />
        )}
      </div>
      <div className="mt-3">
        <CheckField
          label="The number of calls at once was stated"
          hint="By the customer or the old exchange’s counters; otherwise it follows from people and calling."
          value={stated}
          onChange={(on) => change({ stated_calls: on ? 10 : null })}
        />
      </div>
      <div className="mt-5 grid grid-cols-2 gap-x-8 gap-y-4">
        <SelectField
          label="Codec"
          value={form.codec ?? ""}
          options={(codecs.data?.codecs ?? []).map((c) => [c.name, c.title] as const)}
          onChange={(name) => {
            const next = codecs.data?.codecs.find((c) => c.name === name);
            const fits = next?.intervals_ms.includes(form.ptime_ms ?? 20);
            change({ codec: name, ...(next && !fits ? { ptime_ms: next.intervals_ms[0] } : {}) });
          }}
          hint={
            codec &&
            (codec.standing === "planning"
              ? `Ie ${codec.ie}, Bpl ${codec.bpl}: planning values. ${codec.source}`
              : `Ie ${codec.ie}, Bpl ${codec.bpl}: ${codec.source}`)
          }
        />
        <SelectField
          label="Packet every"
          value={String(form.ptime_ms)}
          options={(codec?.intervals_ms ?? [form.ptime_ms ?? 20]).map((p) => [String(p), `${p} ms`] as const)}
          onChange={(ptime) => change({ ptime_ms: Number(ptime) })}
        />
      </div>
      <div className="mt-5">
        <Rows
          rows={form.video ?? []}
          onChange={(video) => change({ video })}
          make={() => ({ profile: "720p30", streams: 2 })}
          add={form.video?.length ? "Add another kind of video" : "Add video"}
          name={(row) => row.profile}
        >
          {(row, set) => (
            <>
              <SelectField
                label="Video"
                value={row.profile}
                options={profiles}
                onChange={(profile) => set({ profile })}
              />
              <NumberField
                label="Streams at once, each way"
                value={row.streams}
                onChange={(streams) => set({ streams: whole(streams) ?? 1 })}
              />
            </>
          )}
        </Rows>
      </div>
    </Section>
  );
}

function TheLine({ form, change }: PartProps) {
  return (
    <Section title="The line and its overheads">
      <div className="grid grid-cols-4 gap-x-5 gap-y-4">
        <TextField
          label="Medium"
          value={form.medium ?? ""}
          onChange={(medium) => change({ medium })}
          placeholder="Fibre"
        />
        <NumberField
          label="Down"
          unit="Mbit/s"
          value={megabits(form.down_kbps)}
          onChange={(rate) => change({ down_kbps: kilobits(rate) })}
        />
        <NumberField
          label="Up"
          unit="Mbit/s"
          value={megabits(form.up_kbps)}
          onChange={(rate) => change({ up_kbps: kilobits(rate) })}
        />
        <NumberField
          label="Tests may take"
          unit="%"
          value={form.ceiling_pct ?? null}
          onChange={(ceiling_pct) => change({ ceiling_pct })}
          placeholder="no ceiling"
        />
      </div>
      <div className="mt-4 grid grid-cols-4 gap-x-5 gap-y-4">
        <TextField
          label="Provider"
          value={form.provider ?? ""}
          onChange={(provider) => change({ provider })}
        />
        <TextField
          label="Line is run by"
          value={form.line_by ?? ""}
          onChange={(line_by) => change({ line_by })}
        />
        <TextField
          label="Firewall is run by"
          value={form.firewall_by ?? ""}
          onChange={(firewall_by) => change({ firewall_by })}
        />
        <TextField
          label="Switches are run by"
          value={form.switches_by ?? ""}
          onChange={(switches_by) => change({ switches_by })}
        />
      </div>
      <div className="mt-5 grid grid-cols-4 items-start gap-x-5 gap-y-3">
        <CheckField
          label="IPv6"
          hint="20 bytes more"
          value={form.ipv6 ?? false}
          onChange={(ipv6) => change({ ipv6 })}
        />
        <CheckField
          label="Encrypted media"
          hint="SRTP, 10 bytes"
          value={form.srtp ?? false}
          onChange={(srtp) => change({ srtp })}
        />
        <CheckField
          label="PPPoE line"
          hint="8 bytes"
          value={form.pppoe ?? false}
          onChange={(pppoe) => change({ pppoe })}
        />
        <span />
        <NumberField
          label="VLAN tags"
          value={form.vlan_tags ?? 0}
          onChange={(tags) => change({ vlan_tags: whole(tags) ?? 0 })}
          hint="4 bytes each"
        />
        <NumberField
          label="Tunnel"
          unit="bytes"
          value={form.tunnel_bytes ?? 0}
          onChange={(bytes) => change({ tunnel_bytes: whole(bytes) ?? 0 })}
          hint="of a VPN, a packet"
        />
      </div>
    </Section>
  );
}

function Hours({ page, form, change }: PartProps & { page: Page }) {
  return (
    <Section title="Hours">
      <div className="grid grid-cols-[1.4fr_auto_90px_90px] gap-x-5">
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
            <TextField label="Because" value={row.why ?? ""} onChange={(why) => set({ why })} />
          </>
        )}
      </Rows>
    </Section>
  );
}

function People({ form, change }: PartProps) {
  return (
    <Section title="Address and contacts">
      <TextField label="Address" value={form.address ?? ""} onChange={(address) => change({ address })} />
      <div className="mt-5">
        <Rows
          rows={form.contacts ?? []}
          onChange={(contacts) => change({ contacts })}
          make={() => ({ role: "on site", name: "", email: "", phone: "" })}
          add="Add a contact"
          name={(row) => row.name || (row.role ?? "")}
        >
          {(row, set) => (
            <>
              <TextField label="Role" value={row.role ?? ""} onChange={(role) => set({ role })} />
              <TextField label="Name" value={row.name ?? ""} onChange={(name) => set({ name })} />
              <TextField label="Email" value={row.email ?? ""} onChange={(email) => set({ email })} />
              <TextField label="Telephone" value={row.phone ?? ""} onChange={(phone) => set({ phone })} />
            </>
          )}
        </Rows>
      </div>
    </Section>
  );
}

function whole(value: number | null): number | null {
  return value === null ? null : Math.round(value);
}

function megabits(kbps: number | null | undefined): number | null {
  return kbps == null ? null : kbps / 1000;
}

function kilobits(rate: number | null): number | null {
  return rate === null ? null : Math.round(rate * 1000);
}
