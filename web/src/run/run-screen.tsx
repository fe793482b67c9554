// One run: live while it is on, its result when done, its life on record.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model, post, put } from "../api/client";
import { Button, Note, Section } from "../ui/controls";
import { TextAreaField, TextField } from "../ui/fields";
import { clock, dateTime, marking, withUnit } from "../ui/format";
import { Popup } from "../ui/popup";
import { Pending, Trail } from "../ui/screen";
import { LiveRun } from "./live-run";
import { RunResult } from "./run-result";

type Run = Model<"RunPage">;

export function RunScreen({ id }: { id: string }) {
  const queries = useQueryClient();
  const page = useQuery({
    queryKey: ["run", id],
    queryFn: () => get("RunPage", `/api/runs/${id}`),
    refetchInterval: (query) => (isOpen(query.state.data) ? 1000 : false),
  });
  const state = page.data?.state;
  useEffect(() => {
    if (state === "done") queries.invalidateQueries({ queryKey: ["site"] });
  }, [state, queries]);
  if (!page.data) return <Pending what="the run" error={page.error} />;
  const run = page.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/sites/${run.site_slug}`, run.site_name],
        ]}
        title={`Run of ${dateTime(run.created_us, run.time_zone)}`}
      />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          {run.name && <p className="text-lg font-semibold">{run.name}</p>}
          <h1 className="text-3xl tracking-tight">
            {run.calls} {run.calls === 1 ? "call" : "concurrent calls"}, {withUnit(run.seconds, "s")}
            {run.flow_words && `, ${run.flow_words}`}
          </h1>
          <p className="mt-1 text-soft">
            {dateTime(run.created_us, run.time_zone)} · {run.probe} ⇄ {run.far_end} · {run.codec_title},
            packetisation interval {withUnit(run.ptime_ms, "ms")}, {marking(run.dscp)} ·{" "}
            {run.rate.ipv4_kbps.toFixed(1)} kbit/s a call each way
            {run.video.map((load) => (
              <span key={load.profile} className="block">
                beside them {load.streams} × {load.title}, {marking(load.dscp)}
              </span>
            ))}
          </p>
        </div>
        <span className="flex flex-wrap gap-3">
          {isOpen(run) ? <Stop run={run} /> : <Repeat run={run} />}
          <Describe run={run} />
        </span>
      </div>
      {run.note && (
        <p className="mt-3 max-w-3xl border-l-2 border-ink pl-3 whitespace-pre-line">{run.note}</p>
      )}
      {run.state === "failed" && (
        <div className="mt-6">
          <Note>
            <span className="font-semibold">This run failed.</span> {run.failure}
          </Note>
        </div>
      )}
      {isOpen(run) && <LiveRun run={run} />}
      {run.state === "done" && <RunResult run={run} />}
      <div className="grid sm:grid-cols-2 gap-x-12">
        <Section title="Log of this run">
          <ol>
            {run.events.map((event) => (
              <li
                key={`${event.at_us}${event.state}${event.words}`}
                className="grid lg:grid-cols-[80px_72px_1fr] text-[15px]"
              >
                <span className="text-soft">{clock(event.at_us, run.time_zone)}</span>
                <span className="font-semibold">{event.state}</span>
                <span>{event.words}</span>
              </li>
            ))}
          </ol>
        </Section>
        {run.self_check && (
          <Section title="Self-check of probe and far end">
            <SelfCheck check={run.self_check} />
          </Section>
        )}
      </div>
    </>
  );
}

export function isOpen(run: Run | undefined): boolean {
  return run === undefined || run.state === "waiting" || run.state === "taken" || run.state === "running";
}

/** The same calls once more. */
function Repeat({ run }: { run: Run }) {
  const navigate = useNavigate();
  const [problem, setProblem] = useState<string | null>(null);
  const again = async () => {
    try {
      const made = await post("RunPage", `/api/sites/${run.site_slug}/runs`, run.again);
      navigate(`/runs/${made.id}`);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <span className="max-w-sm">
      <Button onClick={again}>Repeat this run</Button>
      {problem && <Note>{problem}</Note>}
    </span>
  );
}

function Describe({ run }: { run: Run }) {
  const queries = useQueryClient();
  const [name, setName] = useState(run.name);
  const [note, setNote] = useState(run.note);
  const save = async () => {
    const page = await put("RunPage", `/api/runs/${run.id}`, { name, note });
    queries.setQueryData(["run", String(run.id)], page);
  };
  return (
    <Popup label="Name and note" trigger={<Button>Name and note …</Button>} confirm="Save" onConfirm={save}>
      <TextField label="Name" value={name} onChange={setName} placeholder="after the switch was replaced" />
      <TextAreaField label="Note" value={note} onChange={setNote} />
    </Popup>
  );
}

function Stop({ run }: { run: Run }) {
  const queries = useQueryClient();
  const stop = async () => {
    queries.setQueryData(["run", String(run.id)], await post("RunPage", `/api/runs/${run.id}/stop`, {}));
  };
  return (
    <Button onClick={stop} disabled={run.stop_asked}>
      {run.stop_asked ? "Stopping …" : "Stop and keep results"}
    </Button>
  );
}

function SelfCheck({ check }: { check: Model<"SelfCheckView"> }) {
  const ends = [
    ["at the probe", check.probe_late_p99_ms],
    ["at the far end", check.far_end_late_p99_ms],
  ] as const;
  const late = ends.flatMap(([where, value]) =>
    value === null ? [] : `${withUnit(value.toFixed(2), "ms")} ${where}`,
  );
  return (
    <>
      {check.tainted ? (
        <Note>
          <span className="font-semibold">Invalid.</span> {check.reasons.join(" ")} This run is kept, and left
          out of the site’s verdict.
        </Note>
      ) : (
        <p>Neither end disturbed the measurement: the figures describe the network.</p>
      )}
      <p className="mt-2 text-sm text-soft">
        {late.length > 0
          ? `99 of 100 packets left within ${late.join(", ")} of their scheduled time. `
          : "Send delay was not recorded. "}
        {check.priority && `Scheduling ${check.priority}. `}
        {check.receive_stamps && `Arrival stamped by the ${check.receive_stamps}.`}
      </p>
    </>
  );
}
