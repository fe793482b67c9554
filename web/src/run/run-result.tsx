// What came of a run: per direction what was lost, late and delayed and why; then its calls.
import type { Model } from "../api/client";
import { paintMos } from "../charts/depth";
import { Note } from "../ui/controls";
import { count, fixed, marking, ms, pct } from "../ui/format";
import { Term } from "../ui/term";
import { Calls } from "./calls";
import { CompareWith } from "./compare-with";
import { VideoStreams } from "./video-streams";

type Run = Model<"RunPage">;
type Side = Model<"RunDirection">;

export function RunResult({ run }: { run: Run }) {
  return (
    <>
      <div className="rule mt-6 flex flex-wrap items-start justify-between gap-8 pt-3">
        <div>
          <p className="text-xl font-semibold" role="status">
            {run.good} of {run.calls} {run.calls === 1 ? "call was" : "calls were"} acceptable:{" "}
            {run.direction === "both"
              ? "both directions"
              : `${run.direction === "up" ? "upload" : "download"} only`}{" "}
            at {run.acceptable_words}.
          </p>
          <p className="text-sm text-soft">
            Scale {run.mos_scale} · {run.clock}
          </p>
        </div>
        <CompareWith run={run} />
      </div>
      {run.cut && (
        <div className="mt-4">
          <Note>
            <span className="font-semibold">Cut.</span> {run.cut} These calls count as not acceptable; only
            the probe’s half of them is known.
          </Note>
        </div>
      )}
      <div className="mt-5 grid sm:grid-cols-2 gap-x-12">
        {run.up && <SidePart title="Upload: probe to far end" side={run.up} />}
        {run.down && <SidePart title="Download: far end to probe" side={run.down} />}
      </div>
      {run.streams.length > 0 && <VideoStreams run={run} />}
      <Calls run={run} />
    </>
  );
}

function SidePart({ title, side }: { title: string; side: Side }) {
  const arrived = Object.entries(side.dscp_received).map(
    ([value, n]) => `${marking(Number(value))} × ${count(n)}`,
  );
  return (
    <section
      className="border-t-4 pt-3"
      style={{ borderColor: paintMos(side.mos_p50 ?? 1) }}
      aria-label={title}
    >
      <h2 className="text-lg">{title}</h2>
      <p className="mt-1 text-3xl font-semibold">
        {fixed(side.mos_p50, 2)}
        <span className="ml-1.5 text-base font-normal text-soft">
          <Term of="mos" />, median call · worst {fixed(side.mos_min, 2)}
          {side.mos_p50 !== null && side.delay_p50_ms === null && " · at best: delay not known"}
        </span>
      </p>
      <p className="mt-1.5 leading-snug">{side.why}</p>
      <dl className="mt-3 grid grid-cols-[auto_1fr] gap-x-6 gap-y-0.5">
        <Row name={<Term of="loss" />}>
          {pct(side.loss_pct, 2)} <Of n={side.lost} of={side.sent} />
        </Row>
        <Row name={<Term of="late" />}>
          {pct(side.late_pct, 2)} <Of n={side.late} of={side.sent} />
        </Row>
        <Row name={<Term of="delay" />}>{ms(side.delay_p50_ms, 1)} (median call)</Row>
        <Row name={<Term of="pdv" />}>{ms(side.added_ms, 1)} (median call)</Row>
        <Row name={<Term of="jitter" />}>{ms(side.jitter_ms, 1)} peak</Row>
        <Row name={<Term of="marking" />}>
          sent {marking(side.dscp_sent)}, arrived {arrived.join(", ") || "–"}
        </Row>
      </dl>
    </section>
  );
}

function Row({ name, children }: { name: React.ReactNode; children: React.ReactNode }) {
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd>{children}</dd>
    </>
  );
}

function Of({ n, of }: { n: number; of: number }) {
  return (
    <span className="text-soft">
      · {count(n)} of {count(of)} packets
    </span>
  );
}
