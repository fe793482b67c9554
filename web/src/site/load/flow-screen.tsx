// Loading the line with packets all alike: how many, how large, what of them arrived, second by second.
import { useState } from "react";
import { type Model, post } from "../../api/client";
import { FlowSteps } from "../../charts/flow-steps";
import { useAddress } from "../../ui/address";
import { Button, Note, Section } from "../../ui/controls";
import { CheckField, NumberField, SelectField } from "../../ui/fields";
import { ago, DASH, dateTime, duration, ms, withUnit } from "../../ui/format";
import { underWay, useLivePage } from "../../ui/live-page";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";
import { BenchMenu } from "../bench-menu";

type Page = Model<"FlowPage">;
type Line = Model<"FlowLine">;

const toCome = (line: Line) => underWay(line) || (line.state === "done" && !line.seen && line.words !== "");
const SIDES = [
  ["up", "Upload"],
  ["down", "Download"],
] as const;
const WAYS = { both: "each way", up: "up", down: "down" } as const;

export function FlowScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const path = `/api/sites/${id}/flows`;
  const { page, problem, change } = useLivePage("FlowPage", path, (data) => data.flows.some(toCome));
  if (!page.data) return <Pending what="loads" error={page.error} />;
  const { data } = page;
  const chosen = Number(search.get("load") ?? 0);
  const shown = data.flows.find((one) => one.id === chosen) ?? data.flows[0];
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
          [`/sites/${id}/load`, "Load"],
        ]}
        title="Small packets"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Load {data.site_name} with small packets</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Many small packets cost a router more than few large ones. UDP of one size and rate shows what comes
        through, and what headers add to it.
      </p>
      <BenchMenu slug={id} />
      <Ask
        page={data}
        busy={data.flows.some(underWay)}
        onAsk={(body) => {
          set("load", "");
          return change(post("FlowPage", path, body));
        }}
      />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      {shown && (
        <Shown
          line={shown}
          zone={data.time_zone}
          onStop={() => change(post("FlowPage", `${path}/${shown.id}/stop`, {}))}
        />
      )}
      {data.flows.length > 1 && (
        <Section title="All loads" aside="newest first">
          <ul>
            {data.flows.map((one) => (
              <li key={one.id} className="hair grid gap-x-6 border-b py-2 lg:grid-cols-[200px_1fr]">
                <button
                  type="button"
                  aria-pressed={one.id === shown?.id}
                  className={`text-left underline underline-offset-3 ${one.id === shown?.id ? "font-semibold" : ""}`}
                  onClick={() => set("load", String(one.id))}
                  title={ago(one.asked_us)}
                >
                  {dateTime(one.asked_us, data.time_zone)}
                </button>
                <p className="leading-snug">
                  {one.seen ? one.seen.says.join(" ") : one.words}
                  <span className="block text-sm text-soft">{asked(one)}</span>
                </p>
              </li>
            ))}
          </ul>
        </Section>
      )}
    </>
  );
}

function Ask({
  page,
  busy,
  onAsk,
}: {
  page: Page;
  busy: boolean;
  onAsk: (body: Model<"AskFlow">) => Promise<boolean>;
}) {
  const [probe, setProbe] = useState("");
  const [farEnd, setFarEnd] = useState("");
  const [bytes, setBytes] = useState<number | null>(60);
  const [rate, setRate] = useState<number | null>(500);
  const [seconds, setSeconds] = useState<number | null>(10);
  const [dscp, setDscp] = useState<number | null>(0);
  const [direction, setDirection] = useState<Line["direction"]>("both");
  const [consent, setConsent] = useState(false);
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
  const whole = bytes !== null && rate !== null && seconds !== null && dscp !== null;
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
          label="Direction"
          value={direction}
          onChange={(value) => setDirection(value as Line["direction"])}
          options={[
            ["both", "both ways"],
            ["up", "upload only"],
            ["down", "download only"],
          ]}
        />
        <div className="w-36">
          <NumberField label="Payload" unit="bytes" value={bytes} onChange={setBytes} />
        </div>
        <div className="w-40">
          <NumberField label="Packets, each way" unit="a second" value={rate} onChange={setRate} />
        </div>
        <div className="w-28">
          <NumberField label="For" unit="s" value={seconds} onChange={setSeconds} />
        </div>
        <div className="w-28">
          <NumberField label="DSCP" value={dscp} onChange={setDscp} />
        </div>
      </div>
      <p className="mt-3">{whole && takes(bytes, rate, seconds, direction, page.ceiling_kbps)}</p>
      <div className="mt-2">
        <CheckField
          label="The line may carry this load"
          value={consent}
          onChange={setConsent}
          hint="Calls and pages at the site may suffer meanwhile."
        />
      </div>
      <div className="mt-3">
        <Button
          act
          disabled={busy || !consent || !whole}
          onClick={async () => {
            const body = {
              probe_id: from.id,
              far_end_id: to.id,
              packet_bytes: bytes ?? 60,
              packets_per_s: rate ?? 500,
              seconds: seconds ?? 10,
              dscp: dscp ?? 0,
              direction,
              consent: true as const,
            };
            if (await onAsk(body)) setConsent(false);
          }}
        >
          {busy ? "Sending …" : "Send packets"}
        </Button>
      </div>
    </div>
  );
}

/** IPv4's and UDP's headers are 28 bytes (RFC 791, RFC 768). */
function takes(
  bytes: number,
  rate: number,
  seconds: number,
  direction: Line["direction"],
  ceiling: number | null,
): string {
  const kbps = ((bytes + 28) * rate * 8) / 1000;
  const megabytes = (kbps * seconds * (direction === "both" ? 2 : 1)) / 8000;
  const room = ceiling === null ? "" : ` This site’s ceiling for tests is ${withUnit(ceiling, "kbit/s")}.`;
  return `It takes ${withUnit(kbps.toFixed(0), "kbit/s")} at IP ${WAYS[direction]} and moves ${withUnit(megabytes.toFixed(1), "MB")}.${room}`;
}

const asked = (line: Line) =>
  `${line.packets_per_s.toFixed(0)} packets a second of ${line.packet_bytes} bytes ${WAYS[line.direction]}, ` +
  `${duration(line.seconds)}, DSCP ${line.dscp}, ${line.probe} to ${line.far_end}`;

function Shown({ line, zone, onStop }: { line: Line; zone: string; onStop: () => void }) {
  return (
    <section className="mt-8" aria-label="What the load showed">
      <div role="status" className="rule flex flex-wrap items-baseline gap-x-5 gap-y-1 pt-3">
        <p className="text-sm text-soft">
          {dateTime(line.asked_us, zone)}, {asked(line)}
        </p>
        {!line.seen && <p className="font-semibold">{line.words}</p>}
        {underWay(line) && <Button onClick={onStop}>Stop</Button>}
      </div>
      {line.seen && <Seen seen={line.seen} />}
    </section>
  );
}

function Seen({ seen }: { seen: Model<"FlowSeen"> }) {
  const ways = SIDES.flatMap(([side, name]) => {
    const figures = seen[side];
    return figures ? [{ side, name, figures }] : [];
  });
  return (
    <>
      {seen.says.map((says) => (
        <p key={says} className="mt-2 max-w-4xl text-lg leading-snug">
          {says}
        </p>
      ))}
      {seen.invalid.length > 0 && (
        <div className="mt-3">
          <Note>Invalid: {seen.invalid.join(" ")}</Note>
        </div>
      )}
      {ways.map(({ side, name, figures }) => (
        <div key={side} className="mt-4">
          <h2 className="text-sm font-semibold">
            {name}, packets a second{" "}
            <span className="font-normal text-soft">(dashed: sent; filled: lost)</span>
          </h2>
          <FlowSteps name={name} figures={figures} />
        </div>
      ))}
      {ways.length > 0 && (
        <Wide label="Figures of the load">
          <table className="mt-4 w-full [&_td]:pr-4 [&_th]:pr-4 [&_th]:text-left">
            <thead>
              <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:align-bottom [&>th]:font-normal">
                <th>Direction</th>
                <th>Offered</th>
                <th>Arrived</th>
                <th>Loss</th>
                <th>Payload offered</th>
                <th>At IP</th>
                <th>On Ethernet</th>
                <th>Headers and gaps</th>
                <th>Delay added, median</th>
                <th>95th percentile</th>
              </tr>
            </thead>
            <tbody>
              {ways.map(({ side, name, figures }) => (
                <tr key={side} className="hair border-t [&>*]:py-1.5">
                  <th className="font-semibold">{name}</th>
                  <td>{figures.offered.packets_per_s.toFixed(0)}/s</td>
                  <td>{figures.received.packets_per_s.toFixed(0)}/s</td>
                  <td>{withUnit(figures.loss_pct.toFixed(2), "%")}</td>
                  <td>{withUnit(figures.offered.payload_kbps.toFixed(0), "kbit/s")}</td>
                  <td>{withUnit(figures.offered.ip_kbps.toFixed(0), "kbit/s")}</td>
                  <td>{withUnit(figures.offered.wire_kbps.toFixed(0), "kbit/s")}</td>
                  <td>{withUnit(figures.overhead_pct.toFixed(0), "%")}</td>
                  <td>{unit(figures.delay_added_p50_ms)}</td>
                  <td>{unit(figures.delay_added_p95_ms)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-2 text-sm text-soft">
            Delay is one way, above the least of the load. Ethernet is counted with preamble and gap.
          </p>
        </Wide>
      )}
    </>
  );
}

const unit = (value: number | null) => (value === null ? DASH : `${ms(value, 1)}`);
