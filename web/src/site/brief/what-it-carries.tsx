// People and their calling, codec and video: what the line will have to carry.
import { useQuery } from "@tanstack/react-query";
import { get } from "../../api/client";
import { Section } from "../../ui/controls";
import { CheckField, NumberField, SelectField, TextField } from "../../ui/fields";
import { whole } from "../../ui/format";
import { Rows } from "../../ui/rows";
import type { Page, PartProps } from "./part";

export function WhatItCarries({ page, form, change }: PartProps & { page: Page }) {
  const codecs = useQuery({
    queryKey: ["codecs", page.engagement_slug],
    queryFn: () => get("CodecList", `/api/codecs?engagement=${page.engagement_slug}`),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const codec = codecs.data?.codecs.find((c) => c.name === form.codec);
  const stated = form.stated_calls != null;
  const profiles = page.video_profiles.map((p) => [p.name, `${p.title}, ${p.kbps} kbit/s`] as const);
  return (
    <Section title="What the site must carry">
      <div className="grid sm:grid-cols-2 gap-x-8 gap-y-4">
        <TextField label="Name of the site" value={form.name} onChange={(name) => change({ name })} />
        <TextField
          label="What and where, in a few words"
          value={form.place ?? ""}
          onChange={(place) => change({ place })}
          placeholder="Depot, Skerry Road"
        />
      </div>
      <div className="mt-4 grid md:grid-cols-4 gap-x-5 gap-y-4">
        <NumberField
          label="People"
          value={form.people ?? null}
          onChange={(people) => change({ people: whole(people) })}
        />
        {!stated && (
          <>
            <NumberField
              label="Busy-hour calls per person"
              value={form.calls_per_hour ?? null}
              onChange={(calls_per_hour) => change({ calls_per_hour })}
            />
            <NumberField
              label="Average call duration"
              unit="min"
              value={form.minutes_per_call ?? null}
              onChange={(minutes_per_call) => change({ minutes_per_call })}
            />
            <NumberField
              label="Blocking probability"
              unit="%"
              value={form.blocking_pct ?? null}
              onChange={(blocking_pct) => change({ blocking_pct })}
            />
          </>
        )}
        {stated && (
          <NumberField
            label="Concurrent calls"
            value={form.stated_calls ?? null}
            onChange={(calls) => change({ stated_calls: whole(calls) ?? 1 })}
          />
        )}
      </div>
      <div className="mt-3">
        <CheckField
          label="Enter concurrent calls directly"
          hint="From the customer or the old PBX’s counters; otherwise computed from people and their calls."
          value={stated}
          onChange={(on) => change({ stated_calls: on ? 10 : null })}
        />
      </div>
      <div className="mt-5 grid sm:grid-cols-2 gap-x-8 gap-y-4">
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
            (codec.origin === "planning"
              ? `Ie ${codec.ie}, Bpl ${codec.bpl}: planning values, ${codec.source}`
              : `Ie ${codec.ie}, Bpl ${codec.bpl}: ${codec.source}`)
          }
        />
        <SelectField
          label="Packetisation interval"
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
                label="Concurrent streams, each direction"
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
