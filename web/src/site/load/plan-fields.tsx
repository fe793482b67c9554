// What is placed, from where to where, in what shape, and when.
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { get, type Model } from "../../api/client";
import { NumberField, SelectField, TextField } from "../../ui/fields";
import { marking } from "../../ui/format";
import { Rows } from "../../ui/rows";
import { Choice, WhenFields, Whole } from "./when-fields";

type Form = Model<"PlanForm">;

interface Props {
  form: Form;
  change: (part: Partial<Form>) => void;
  probes: Model<"ProbeCard">[];
  farEnds: Model<"FarEndCard">[];
  timeZone: string;
}

const MARKS = [46, 0, 8, 10, 18, 26, 32, 34, 40, 48];

function withMark(mark: number): number[] {
  return MARKS.includes(mark) ? MARKS : [...MARKS, mark];
}

export function PlanFields({ form, change, probes, farEnds, timeZone }: Props) {
  return (
    <>
      <LoadFields form={form} change={change} probes={probes} farEnds={farEnds}>
        <TextField
          label="Name of the plan"
          value={form.name ?? ""}
          onChange={(name) => change({ name })}
          placeholder="named after its load"
        />
      </LoadFields>
      <Choice
        label="Shape of the load"
        value={form.shape ?? "hold"}
        options={[
          ["ramp", "Ramp up to find the maximum"],
          ["hold", "Fixed load"],
        ]}
        onChange={(shape) => change({ shape })}
      />
      <div className="mt-3 grid md:grid-cols-5 gap-x-5">
        {form.shape === "ramp" && (
          <>
            <Whole label="From" value={form.first ?? 1} onChange={(first) => change({ first })} />
            <Whole label="up to" value={form.calls} onChange={(calls) => change({ calls })} />
            <Whole label="by" value={form.by ?? 1} onChange={(by) => change({ by })} />
          </>
        )}
        {form.shape === "hold" && (
          <Whole label="Concurrent calls" value={form.calls} onChange={(calls) => change({ calls })} />
        )}
        <NumberField
          label="Seconds each"
          value={form.call_s ?? 60}
          onChange={(value) => change({ call_s: value ?? 0 })}
        />
        <Whole label="Rounds" value={form.rounds ?? 1} onChange={(rounds) => change({ rounds })} />
      </div>
      <WhenFields
        when={form.when ?? "now"}
        startLocal={form.start_local ?? null}
        rule={form.rule ?? null}
        timeZone={timeZone}
        choices={["now", "at", "repeat", "draft"]}
        onChange={({ when, startLocal, rule }) => change({ when, start_local: startLocal, rule })}
      />
    </>
  );
}

interface LoadProps extends Omit<Props, "timeZone"> {
  /** A field more, beside probe and far end. */
  children?: ReactNode;
}

/** What is sent, from where to where; the same for a plan and for calls placed at once. */
export function LoadFields({ form, change, probes, farEnds, children }: LoadProps) {
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const codec = codecs.data?.codecs.find((c) => c.name === form.codec);
  return (
    <>
      <div className="grid gap-x-5 gap-y-4 md:grid-cols-3">
        <SelectField
          label="From the probe"
          value={String(form.probe_id)}
          options={probes.map(
            (p) => [String(p.id), p.state === "online" ? p.name : `${p.name}, offline`] as const,
          )}
          onChange={(value) => change({ probe_id: Number(value) })}
        />
        <SelectField
          label="To the far end"
          value={String(form.far_end_id)}
          options={farEnds.map((f) => [String(f.id), f.name] as const)}
          onChange={(value) => change({ far_end_id: Number(value) })}
        />
        {children}
        <SelectField
          label="Codec"
          value={form.codec}
          options={(codecs.data?.codecs ?? []).map((c) => [c.name, c.title] as const)}
          onChange={(name) => {
            const next = codecs.data?.codecs.find((c) => c.name === name);
            const fits = next?.intervals_ms.includes(form.ptime_ms ?? 20);
            change({ codec: name, ...(next && !fits ? { ptime_ms: next.intervals_ms[0] } : {}) });
          }}
        />
        <SelectField
          label="Packetisation interval"
          value={String(form.ptime_ms)}
          options={(codec?.intervals_ms ?? [form.ptime_ms ?? 20]).map((p) => [String(p), `${p} ms`] as const)}
          onChange={(value) => change({ ptime_ms: Number(value) })}
        />
        <div className="grid gap-2 sm:grid-cols-[1fr_80px]">
          <SelectField
            label="Marking"
            value={String(form.dscp)}
            options={withMark(form.dscp ?? 46).map((mark) => [String(mark), marking(mark)] as const)}
            onChange={(value) => change({ dscp: Number(value) })}
          />
          <NumberField
            label="or DSCP"
            value={form.dscp ?? 46}
            onChange={(value) => change({ dscp: Math.round(value ?? 0) })}
          />
        </div>
      </div>
      <Choice
        label="Media flows"
        value={form.direction ?? "both"}
        options={[
          ["both", "Both directions, as in a call"],
          ["up", "Up only"],
          ["down", "Down only"],
        ]}
        onChange={(direction) => change({ direction })}
      />
      <VideoBeside
        video={form.video ?? []}
        profiles={codecs.data?.video_profiles ?? []}
        onChange={(video) => change({ video })}
      />
    </>
  );
}

type Video = NonNullable<Form["video"]>;

function VideoBeside(props: {
  video: Video;
  profiles: Model<"VideoProfileView">[];
  onChange: (video: Video) => void;
}) {
  const { video, profiles, onChange } = props;
  return (
    <fieldset className="mt-6">
      <legend className="mb-1 text-sm text-soft">Video beside the calls</legend>
      <Rows
        rows={video}
        onChange={onChange}
        make={() => ({ profile: "720p30", streams: 1, dscp: 34 })}
        add={video.length ? "Add another kind of video" : "Add video"}
        name={(row) => row.profile}
        columns="1.4fr 1fr 1.2fr 80px"
      >
        {(row, set) => (
          <>
            <SelectField
              label="Video"
              value={row.profile}
              options={profiles.map((p) => [p.name, `${p.title}, ${p.kbps} kbit/s`] as const)}
              onChange={(profile) => set({ profile })}
            />
            <Whole
              label="Streams, each direction"
              value={row.streams}
              onChange={(streams) => set({ streams })}
            />
            <SelectField
              label="Marking"
              value={String(row.dscp ?? 34)}
              options={withMark(row.dscp ?? 34).map((mark) => [String(mark), marking(mark)] as const)}
              onChange={(value) => set({ dscp: Number(value) })}
            />
            <NumberField
              label="or DSCP"
              value={row.dscp ?? 34}
              onChange={(value) => set({ dscp: Math.round(value ?? 0) })}
            />
          </>
        )}
      </Rows>
    </fieldset>
  );
}
