// The live run: two lanes, one thread a call, the expected packet rate as the line to meet.
import { useEffect, useState } from "react";
import { get, type Model } from "../api/client";
import { Lane } from "../charts/lane";
import { fixed, ms, withUnit } from "../ui/format";
import { Term } from "../ui/term";

type Run = Model<"RunPage">;
type Second = Model<"LiveSecondView">;

export function LiveRun({ run }: { run: Run }) {
  const { seconds, error } = useLiveSeconds(run.id);
  const last = seconds.at(-1);
  const expected = 1000 / run.ptime_ms;
  const elapsed = Math.min(last?.second ?? 0, run.seconds);
  return (
    <div className="mt-6">
      <div className="rule flex flex-wrap items-baseline justify-between gap-8 pt-3">
        <p className="text-xl font-semibold" role="status">
          {flowWords(run, last, expected)}
        </p>
        <p className="whitespace-nowrap">
          {elapsed} of {withUnit(run.seconds, "s")}
          {last && elapsed < run.seconds && (
            <span className="text-soft"> · {withUnit(Math.ceil(run.seconds - elapsed), "s")} left</span>
          )}
          {last && elapsed >= run.seconds && (
            <span className="text-soft"> · waiting for late packets and the record</span>
          )}
        </p>
      </div>
      <div className="mt-2 h-1.5 bg-hair" aria-hidden="true">
        <div
          // Moved, not widened: that needs no new layout sixty times a second.
          className="h-full origin-left bg-ink transition-transform duration-700 motion-reduce:transition-none"
          style={{ transform: `scaleX(${elapsed / run.seconds})` }}
        />
      </div>
      {error && <p className="mt-3">{error}</p>}
      {waysOf(run).map((side) => (
        <LaneRow key={side} side={side} run={run} seconds={seconds} expected={expected} />
      ))}
      <p className="mt-3 text-sm text-soft">
        Round trip {ms(last?.rtt_ms, 1)} · the probe’s latest packet left {ms(last?.send_late_max_ms, 2)}{" "}
        after its scheduled time · quality here is each second on its own; the result judges every packet.
      </p>
    </div>
  );
}

/** The ways in which media is to flow. */
function waysOf(run: Run): ("up" | "down")[] {
  return run.direction === "both" ? ["up", "down"] : [run.direction];
}

function LaneRow(props: { side: "up" | "down"; run: Run; seconds: Second[]; expected: number }) {
  const { side, run, seconds, expected } = props;
  const now = seconds.at(-1)?.[side];
  const video = seconds.at(-1)?.[side === "up" ? "video_up" : "video_down"];
  return (
    <section
      className="mt-5 grid lg:grid-cols-[190px_1fr] gap-6"
      aria-label={side === "up" ? "Upload" : "Download"}
    >
      <div>
        <h2 className="text-lg">
          {side === "up" ? "Upload: probe to far end" : "Download: far end to probe"}
        </h2>
        <p className="mt-1 text-3xl leading-tight font-semibold">
          {fixed(now?.mos, 2)}
          <span className="ml-1 text-base font-normal text-soft">
            <Term of="mos" /> this second
          </span>
        </p>
        <p className="mt-1 text-sm leading-6 text-soft">
          {fixed(now?.rate, 0)} of {expected.toFixed(0)} packets a second a call
          <br />
          {now?.missing ?? 0} missing, {now?.late ?? 0} late so far
          <br />
          <Term of="jitter" /> {ms(now?.jitter_ms, 1)}
        </p>
        {run.video.length > 0 && (
          <p className="mt-1 text-sm leading-6 text-soft">
            Video: {fixed(video?.rate, 0)} of about {run.video_rate.toFixed(0)} packets a second
            <br />
            {video?.missing ?? 0} missing, {video?.late ?? 0} late so far
          </p>
        )}
      </div>
      <Lane side={side} seconds={seconds} calls={run.calls} length={run.seconds} expected={expected} />
    </section>
  );
}

/** Which way packets flow, in words. */
function flowWords(run: Run, last: Second | undefined, expected: number): string {
  if (!last && run.state === "waiting") return "Waiting for the probe to start.";
  if (!last && run.state === "taken") return "The probe is setting up the calls.";
  if (!last) return "The calls are up; the first second is being counted.";
  if (last.second > run.seconds) return "All packets are sent.";
  const flows = (side: "up" | "down") => last[side].rate >= expected * 0.1;
  // The first second is counted from before the first packet.
  const full = (side: "up" | "down") => last[side].rate >= expected * (last.second === 1 ? 0.5 : 0.9);
  const rate = `${expected.toFixed(0)} packets a second`;
  if (run.direction !== "both") {
    const way = run.direction;
    const name = way === "up" ? "Upload" : "Download";
    if (full(way)) return `${name} is flowing at ${rate}, in this direction only, as planned.`;
    if (flows(way))
      return `${name} has fewer packets than planned: ${last[way].rate.toFixed(0)} of ${rate} a call.`;
    return `${name} carries no packets. Usually a firewall between the probe and the far end.`;
  }
  if (full("up") && full("down")) return `Both directions are flowing at ${rate}.`;
  if (flows("up") && flows("down")) {
    const short = full("up") ? "down" : full("down") ? "up" : "both";
    const got = (side: "up" | "down") => `${last[side].rate.toFixed(0)} ${side}`;
    return `Both directions flow, but with fewer packets than planned (${short}): ${got("up")}, ${got("down")} of ${rate} a call.`;
  }
  if (flows("up")) return "Upload only: nothing, or too little, arrives from the far end.";
  if (flows("down")) return "Download only: nothing, or too little, reaches the far end.";
  return "No packets flow in either direction. Usually a firewall between the probe and the far end.";
}

/** Asks each second for what is new and keeps the rest. */
function useLiveSeconds(runId: number): { seconds: Second[]; error: string | null } {
  const [seconds, setSeconds] = useState<Second[]>([]);
  const [error, setError] = useState<string | null>(null);
  useEffect(() => {
    let over = false;
    let timer: ReturnType<typeof setTimeout>;
    let after = 0;
    const ask = async () => {
      try {
        const live = await get("RunLive", `/api/runs/${runId}/live?after=${after}`);
        if (over) return;
        after = live.seconds.at(-1)?.second ?? after;
        if (live.seconds.length > 0) setSeconds((before) => [...before, ...live.seconds]);
        setError(null);
      } catch (problem) {
        if (!over) setError((problem as Error).message);
      }
      if (!over) timer = setTimeout(ask, 400);
    };
    ask();
    return () => {
      over = true;
      clearTimeout(timer);
    };
  }, [runId]);
  return { seconds, error };
}
