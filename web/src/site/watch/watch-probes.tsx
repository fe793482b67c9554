// Which probe watches what, how that stands, and to start, change or stop it.
import { useState } from "react";
import type { Model } from "../../api/client";
import { Button } from "../../ui/controls";
import { CheckField, SelectField } from "../../ui/fields";
import { count, DASH, dateTime, duration, marking, ms, pct, withUnit } from "../../ui/format";
import { Popup } from "../../ui/popup";
import { Rows } from "../../ui/rows";

type Page = Model<"WatchPage">;
type Probe = Model<"WatchedProbe">;
type Watch = Model<"WatchView">;
type Form = Model<"WatchForm">;
type Place = Model<"WatchPlaceForm">;

const INTERVALS = [
  ["200", "5 a second"],
  ["1000", "1 a second"],
  ["5000", "1 in 5 seconds"],
  ["60000", "1 a minute"],
] as const;
const ROLES = [
  ["gateway", "Gateway"],
  ["edge", "Provider’s edge"],
  ["outside", "Outside"],
  ["far-end", "Far end"],
] as const;
const LARGE_EVERY = 5;
type What = Model<"BesideCost">["what"];
const BESIDE: Record<What, { words: string; every: readonly (readonly [string, string])[] }> = {
  call: {
    words: "A call of 12 seconds",
    every: [
      ["0", "never"],
      ["300", "every 5 minutes"],
      ["600", "every 10 minutes"],
      ["1800", "every 30 minutes"],
    ],
  },
  needed: {
    words: "All calls and video of the brief for 20 seconds, in business hours",
    every: [
      ["0", "never"],
      ["1200", "every 20 minutes"],
      ["3600", "every hour"],
      ["10800", "every 3 hours"],
    ],
  },
  services: {
    words: "Names and services of the check",
    every: [
      ["0", "never"],
      ["300", "every 5 minutes"],
      ["900", "every 15 minutes"],
      ["3600", "every hour"],
    ],
  },
  fill: {
    words: "The line filled for 6 seconds each way",
    every: [
      ["0", "never"],
      ["14400", "every 4 hours"],
      ["25200", "every 7 hours"],
      ["86400", "once a day"],
    ],
  },
};
const WHATS = ["call", "needed", "services", "fill"] as const;

interface Props {
  page: Page;
  shown: number | null;
  onShow: (probe: number) => void;
  onBegin: (probe: number, form: Form) => Promise<void>;
  onEnd: (probe: number) => void;
}

export function WatchProbes({ page, shown, onShow, onBegin, onEnd }: Props) {
  if (page.probes.length === 0)
    return <p className="mt-4">No probe has enrolled here yet. Place one first.</p>;
  return (
    <ul className="mt-4">
      {page.probes.map((probe) => (
        <li key={probe.id} className="hair grid gap-x-8 gap-y-2 border-t py-3 lg:grid-cols-[180px_1fr_auto]">
          <p>
            <span className="font-semibold">{probe.name}</span>
            <span className="block text-sm text-soft">{probe.online ? "online" : "offline"}</span>
          </p>
          <div>{probe.watch ? <Stands watch={probe.watch} page={page} /> : "Not watching."}</div>
          <div className="flex flex-wrap items-start gap-3">
            {probe.watch && shown !== probe.id && page.probes.length > 1 && (
              <Button onClick={() => onShow(probe.id)}>Show its days</Button>
            )}
            {probe.watch && probe.watch.state !== "ended" && (
              <Button onClick={() => onEnd(probe.id)}>Stop</Button>
            )}
            {page.far_ends.length > 0 ? (
              <Ask
                key={isOn(probe) ? "on" : "off"}
                page={page}
                probe={probe}
                onBegin={(form) => onBegin(probe.id, form)}
              />
            ) : (
              <p className="text-sm">Choose a far end where probes are placed.</p>
            )}
          </div>
        </li>
      ))}
    </ul>
  );
}

const isOn = ({ watch }: Probe) => watch !== null && watch.state !== "ended";

function Stands({ watch, page }: { watch: Watch; page: Page }) {
  const quiet = watch.state === "ended" || watch.state === "sampling" || watch.state === "starting";
  const total = watch.answered + watch.lost;
  return (
    <div className="leading-snug">
      <p
        className={quiet ? "" : "border-l-4 border-ink pl-3 font-semibold"}
        role={quiet ? undefined : "alert"}
      >
        {watch.says}
      </p>
      <p className="mt-1 text-sm text-soft">
        {INTERVALS.find(([interval]) => Number(interval) === watch.interval_ms)?.[1] ??
          `1 in ${watch.interval_ms / 1000} seconds`}
        , to {watch.far_end} marked {marking(watch.dscp)}
        {watch.echoes.map((one) => `, ${one.address || "the gateway"}`)}
        {watch.large_every > 0 && `; each ${watch.large_every}th echo large`}
      </p>
      {watch.first_us !== null && watch.last_us !== null && (
        <p className="text-sm">
          {count(total)} samples, {count(watch.lost)} lost
          {total > 0 && ` (${pct((100 * watch.lost) / total, 2)})`}
          {watch.not_sent > 0 && `, ${count(watch.not_sent)} not sent`}, last{" "}
          {dateTime(watch.last_us, page.time_zone)}
          {watch.without_us > 0 && `; no samples for ${duration(watch.without_us / 1e6)} in between`}
          {watch.recent_sent > 0 && `; last 10 minutes: far end ${ms(watch.recent_rtt_ms, 1)} (median)`}
        </p>
      )}
      {watch.beside.length > 0 && (
        <ul className="mt-1 text-sm">
          {watch.beside.map((one) => (
            <li key={one.what} className={one.quiet ? "border-l-4 border-ink pl-3" : ""}>
              <span className="text-soft">
                {BESIDE[one.what].words}, {everyWords(one.what, one.every_s)}:
              </span>{" "}
              {one.begun_us ? `last ${dateTime(one.begun_us, page.time_zone)}` : "not yet"}
              {one.left_us !== null &&
                one.left_us > (one.begun_us ?? 0) &&
                `; left out ${dateTime(one.left_us, page.time_zone)}: ${one.left_words}`}
              {one.quiet && one.quiet !== one.left_words && `; ${one.quiet}`}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function Ask({ page, probe, onBegin }: { page: Page; probe: Probe; onBegin: (form: Form) => Promise<void> }) {
  const { watch } = probe;
  const on = isOn(probe);
  const [farEnd, setFarEnd] = useState(String(watch?.far_end_id ?? page.far_ends[0]?.id ?? ""));
  const [interval, setInterval] = useState(String(watch?.interval_ms ?? 1000));
  const [places, setPlaces] = useState<Place[]>(on && watch ? watch.echoes : probe.proposed);
  const [large, setLarge] = useState(on && watch ? watch.large_every > 0 : true);
  const [beside, setBeside] = useState<Record<What, number>>(() => besideOf(page, on ? watch : null));
  const [consent, setConsent] = useState(on && beside.fill > 0);
  const form: Form = {
    far_end_id: Number(farEnd),
    interval_ms: Number(interval),
    dscp: watch?.dscp ?? 46,
    echoes: places,
    large_every: large ? LARGE_EVERY : 0,
    beside: { ...beside, consent },
  };
  return (
    <Popup
      label={on ? "Edit the watch" : "Start a watch"}
      trigger={<Button act={!on}>{on ? "Edit …" : "Start a watch …"}</Button>}
      confirm={on ? "Save" : "Start"}
      onConfirm={() => onBegin(form)}
    >
      <p className="leading-snug">
        It goes on by itself for weeks, beside calls and checks, and while this server is away, until it is
        stopped.
      </p>
      <SelectField
        label="Far end, by time stamps marked as calls are"
        value={farEnd}
        options={page.far_ends.map((far) => [String(far.id), far.name] as const)}
        onChange={setFarEnd}
      />
      <SelectField label="Rounds" value={interval} options={INTERVALS} onChange={setInterval} />
      <p className="text-sm text-soft">
        Trouble shorter than {duration((page.least_rounds * form.interval_ms) / 1000)} cannot be told from
        single losses.
      </p>
      <p className="text-sm text-soft">Asked by echoes in each round:</p>
      <Rows
        rows={places}
        onChange={setPlaces}
        make={() => ({ role: "outside", address: "" }) as Place}
        add="Add a place"
        name={(one) => one.address || "the gateway"}
        columns="150px 1fr"
      >
        {(one, changed) => (
          <>
            <SelectField
              label="Place"
              value={one.role}
              options={ROLES}
              onChange={(role) => changed({ role: role as Place["role"] })}
            />
            <label className="block">
              <span className="text-sm text-soft">Address</span>
              <input
                className="mt-0.5 block w-full border border-soft bg-raised px-2.5 py-1.5"
                value={one.address}
                placeholder={one.role === "gateway" ? "the system’s own" : ""}
                onChange={(event) => changed({ address: event.target.value })}
              />
            </label>
          </>
        )}
      </Rows>
      <CheckField
        label={`Each ${LARGE_EVERY}th echo large (${page.large_bytes} bytes)`}
        value={large}
        onChange={setLarge}
      />
      <p className="mt-1 font-semibold">Beside the samples, by the site’s rules</p>
      {WHATS.map((what) => (
        <SelectField
          key={what}
          label={BESIDE[what].words}
          value={String(beside[what])}
          options={choices(what, beside[what])}
          onChange={(value) => setBeside({ ...beside, [what]: Number(value) })}
        />
      ))}
      {beside.fill > 0 && (
        <CheckField
          label="Somebody at the site has agreed that its line is filled"
          value={consent}
          onChange={setConsent}
        />
      )}
      <p>{takes(page, form, beside)}</p>
    </Popup>
  );
}

/** As it goes on now, or as it is proposed. */
function besideOf(page: Page, watch: Watch | null): Record<What, number> {
  const found = { call: 0, needed: 0, services: 0, fill: 0 };
  for (const one of watch?.beside ?? []) found[one.what] = one.every_s;
  if (!watch) for (const one of page.beside) found[one.what] = one.usual_s;
  return found;
}

function choices(what: What, now: number) {
  const { every } = BESIDE[what];
  return every.some(([value]) => Number(value) === now)
    ? every
    : [...every, [String(now), everyWords(what, now)] as const];
}

function everyWords(what: What, seconds: number): string {
  const known = BESIDE[what].every.find(([value]) => Number(value) === seconds);
  return known ? known[1] : `every ${duration(seconds)}`;
}

/** Bytes a day, both ways together: of samples at IP, of all else as it is on the line. */
function takes(page: Page, form: Form, beside: Record<What, number>): string {
  const places = form.echoes?.length ?? 0;
  const echo = form.large_every
    ? page.small_bytes + (page.large_bytes - page.small_bytes) / form.large_every
    : page.small_bytes;
  const round = 2 * (page.stamp_bytes + places * echo);
  const samples = (round * 86_400_000) / form.interval_ms;
  const others = page.beside
    .filter((one) => beside[one.what] > 0)
    .map((one) => ({
      what: one.what,
      day: one.start_bytes === null ? null : (one.start_bytes * one.share * 86_400) / beside[one.what],
    }));
  const all = samples + others.reduce((sum, one) => sum + (one.day ?? 0), 0);
  const mb = (bytes: number) => withUnit((bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0), "MB");
  const parts = others.map((one) => `${SHORT[one.what]} ${one.day === null ? DASH : mb(one.day)}`);
  const unknown = others.some((one) => one.day === null)
    ? " What a fill moves is not known: the brief has no rates of the line."
    : "";
  return `It moves about ${mb(all)} a day, both ways together: samples ${[mb(samples), ...parts].join(", ")}.${unknown}`;
}

const SHORT: Record<What, string> = {
  call: "calls",
  needed: "calls of the brief",
  services: "names and services",
  fill: "fills, at most",
};
