// Continuous samples of a probe's way to one far end: how they stand, and to begin or end them.
import { useState } from "react";
import type { Model } from "../../api/client";
import { SelectField } from "../../ui/fields";
import { count, dateTime, duration, marking, ms, pct } from "../../ui/format";
import { Popup } from "../../ui/popup";
import type { Ask, Change } from "./use-places";

type Probe = Model<"ProbeCard">;
type Page = Model<"PlacePage">;
type Watch = Model<"WatchView">;

/** Milliseconds from one sample to the next, by how it is said. */
const INTERVALS = [
  ["200", "5 a second"],
  ["1000", "1 a second"],
  ["5000", "1 in 5 seconds"],
] as const;

export function WatchLines({ probe, page }: { probe: Probe; page: Page }) {
  const { watch } = probe;
  if (!watch) return null;
  const quiet = watch.state === "ended" || watch.state === "sampling";
  return (
    <div className="mt-2 text-sm leading-6">
      <p>
        <span className="text-soft">Samples to</span> {watch.far_end},{" "}
        {INTERVALS.find(([interval]) => Number(interval) === watch.interval_ms)?.[1] ??
          `1 in ${watch.interval_ms} ms`}
        , {marking(watch.dscp)}. <span className={quiet ? "" : "font-semibold"}>{watch.says}</span>
      </p>
      {watch.first_us !== null && watch.last_us !== null && (
        <p>
          {count(watch.answered)} answered, {count(watch.lost)} lost
          {watch.lost > 0 && ` (${pct(share(watch), 2)})`}
          {watch.not_sent > 0 && `, ${count(watch.not_sent)} not sent`}
          <span className="text-soft">
            {` from ${dateTime(watch.first_us, page.time_zone)} to ${dateTime(watch.last_us, page.time_zone)}`}
          </span>
          {watch.without_us > 0 && `, no samples for ${duration(watch.without_us / 1e6)} of it`}
        </p>
      )}
      {watch.recent_sent > 0 && (
        <p>
          Last 10 minutes: round trip {ms(watch.recent_rtt_ms, 1)} (median), {count(watch.recent_lost)} of{" "}
          {count(watch.recent_sent)} lost
          {watch.recent_beside > 0 && `, ${count(watch.recent_beside)} taken during calls of ours`}
        </p>
      )}
    </div>
  );
}

function share(watch: Watch): number {
  return (100 * watch.lost) / (watch.answered + watch.lost);
}

export function WatchButton({
  probe,
  page,
  ask,
  change,
}: {
  probe: Probe;
  page: Page;
  ask: Ask;
  change: Change;
}) {
  const chosen = page.far_ends.filter((far) => far.chosen && far.probe_id !== probe.id);
  const [farEnd, setFarEnd] = useState("");
  const [interval, setInterval] = useState("1000");
  const path = `probes/${probe.id}/watch`;
  if (probe.watch && probe.watch.state !== "ended") {
    return (
      <button type="button" onClick={() => change("remove", path)}>
        Stop sampling
      </button>
    );
  }
  if (chosen.length === 0) return null;
  const wanted = farEnd || String(chosen[0]?.id);
  return (
    <Popup
      label="Sample continuously"
      trigger={<button type="button">Sample continuously …</button>}
      confirm="Start"
      onConfirm={() => ask("put", path, { far_end_id: Number(wanted), interval_ms: Number(interval) })}
    >
      <p className="leading-snug">
        One small packet at a time to a far end, marked as calls are, until it is stopped. It goes on beside
        calls, and while this server is away.
      </p>
      <SelectField
        label="Far end"
        value={wanted}
        options={chosen.map((far) => [String(far.id), far.name] as const)}
        onChange={setFarEnd}
      />
      <SelectField label="Samples" value={interval} options={INTERVALS} onChange={setInterval} />
    </Popup>
  );
}
