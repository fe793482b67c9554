// What is to be filled, for how long, what that moves, and the consent to it.
import { useState } from "react";
import type { Model } from "../../api/client";
import { Button } from "../../ui/controls";
import { CheckField, NumberField, SelectField } from "../../ui/fields";
import { DASH, duration, megabits, withUnit } from "../../ui/format";
import { WhenFields } from "./when-fields";

type Way = "up" | "down" | "both";
const CHOICES: [string, string, Way[]][] = [
  ["all", "Upload, download, both", ["up", "down", "both"]],
  ["up", "Upload only", ["up"]],
  ["down", "Download only", ["down"]],
];

const choiceOf = (ways: Way[]) => (ways.length === 1 && ways[0] !== "both" ? (ways[0] ?? "all") : "all");

export function AskFill({
  page,
  busy,
  planned,
  onAsk,
  onLeave,
}: {
  page: Model<"FillPage">;
  busy: boolean;
  /** Fills that are to come, and that this changes. */
  planned: Model<"FillPlanLine"> | undefined;
  onAsk: (body: Model<"AskFill">) => Promise<boolean>;
  /** Leave them as they are. */
  onLeave: () => void;
}) {
  const [probe, setProbe] = useState(planned ? String(planned.probe_id) : "");
  const [farEnd, setFarEnd] = useState(planned ? String(planned.far_end_id) : "");
  const [seconds, setSeconds] = useState<number | null>(planned?.seconds ?? 10);
  const [choice, setChoice] = useState(planned ? choiceOf(planned.ways) : "all");
  const [beyond, setBeyond] = useState(planned !== undefined && planned.ceiling_kbps === 0);
  const [consent, setConsent] = useState(false);
  const [when, setWhen] = useState<"now" | "at" | "repeat">(
    planned ? (planned.recurs ? "repeat" : "at") : "now",
  );
  const [startLocal, setStartLocal] = useState<string | null>(planned?.next_local ?? null);
  const [rule, setRule] = useState<string | null>(planned?.recurs ?? null);
  const from =
    page.probes.find((one) => String(one.id) === probe) ??
    page.probes.find((p) => p.online) ??
    page.probes[0];
  const to = page.far_ends.find((one) => String(one.id) === farEnd) ?? page.far_ends[0];
  if (!from) return <p className="mt-4">No probe has enrolled here yet. Place one first.</p>;
  if (!to)
    return (
      <p className="mt-4">No far end is chosen for this site yet. Choose one where probes are placed.</p>
    );
  const ways = CHOICES.find(([key]) => key === choice)?.[2] ?? [];
  const ceiling = beyond ? null : page.ceiling_kbps;
  const takes = page.idle_s + ways.length * ((seconds ?? 0) + page.rest_s);
  return (
    <div className="mt-5">
      <div className="flex flex-wrap items-end gap-4">
        <SelectField
          label="From the probe"
          value={String(from.id)}
          onChange={setProbe}
          options={page.probes.map((one) => [
            String(one.id),
            one.online ? one.name : `${one.name} (offline)`,
          ])}
        />
        <SelectField
          label="To the far end"
          value={String(to.id)}
          onChange={setFarEnd}
          options={page.far_ends.map((one) => [String(one.id), one.name])}
        />
        <SelectField
          label="Fill"
          value={choice}
          onChange={setChoice}
          options={CHOICES.map(([key, words]) => [key, words])}
        />
        <div className="w-36">
          <NumberField label="Each way" unit="s" value={seconds} onChange={setSeconds} />
        </div>
      </div>
      <p className="mt-3">
        {`It takes ${duration(takes)} and moves ${volume(page, ways, seconds ?? 0, ceiling)}.`}
      </p>
      {page.metered_left_bytes !== null && (
        <p className="mt-1">
          This line is metered: {withUnit((page.metered_left_bytes / 1e6).toFixed(0), "MB")} of today’s
          allowance are left, after which the streams end.
        </p>
      )}
      {page.ceiling_kbps !== null && (
        <div className="mt-2">
          <CheckField
            label={`Go beyond this site’s ceiling for tests (${withUnit(page.ceiling_pct ?? DASH, "%")} of the line)`}
            value={beyond}
            onChange={setBeyond}
            hint={`Otherwise the streams stay below ${megabits(page.ceiling_kbps)} each way, and the line will not be full.`}
          />
        </div>
      )}
      <div className="mt-2">
        <CheckField
          label="The line may be full for that long"
          value={consent}
          onChange={setConsent}
          hint="People who work at the site will notice: pages load slowly, and calls on this line may suffer."
        />
      </div>
      <WhenFields
        when={when}
        startLocal={startLocal}
        rule={rule}
        timeZone={page.time_zone}
        choices={planned ? ["at", "repeat"] : ["now", "at", "repeat"]}
        onChange={(next) => {
          setWhen(next.when);
          setStartLocal(next.startLocal);
          setRule(next.rule);
        }}
      />
      <div className="mt-3 flex gap-3">
        <Button
          act
          disabled={(busy && when === "now") || !consent || seconds === null}
          onClick={async () => {
            const body = {
              probe_id: from.id,
              far_end_id: to.id,
              seconds: seconds ?? 10,
              streams: 4,
              ways,
              beyond_ceiling: beyond,
              when,
              start_local: startLocal,
              rule,
              consent: true as const,
            };
            if (await onAsk(body)) setConsent(false);
          }}
        >
          {planned
            ? "Save changes"
            : when !== "now"
              ? "Schedule line fills"
              : busy
                ? "Filling the line …"
                : "Fill the line"}
        </Button>
        {planned && <Button onClick={onLeave}>Cancel</Button>}
      </div>
    </div>
  );
}

function volume(page: Model<"FillPage">, ways: Way[], seconds: number, ceiling: number | null): string {
  const most = (kbps: number | null) =>
    kbps === null ? null : ceiling === null ? kbps : Math.min(kbps, ceiling);
  const up = most(page.up_kbps);
  const down = most(page.down_kbps);
  if (up === null || down === null)
    return "as much as the line carries in that time: the brief names no rates";
  const kbps = { up, down, both: up + down };
  const megabytes = ways.reduce((sum, way) => sum + (kbps[way] * seconds) / 8000, 0);
  return `about ${withUnit(megabytes < 10 ? megabytes.toFixed(1) : Math.round(megabytes), "MB")} at the brief’s rates`;
}
