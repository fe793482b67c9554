// Any name or address looked at from a probe: small and large packets, for so many rounds or until it is stopped.
import { type FormEvent, useState } from "react";
import { type Model, post } from "../../api/client";
import { LookStrip } from "../../charts/look-strip";
import { Button, Field, INPUT, Note, Section } from "../../ui/controls";
import { NumberField, SelectField } from "../../ui/fields";
import { ago, DASH, duration, fixed, pct, withUnit } from "../../ui/format";
import { underWay, useLivePage } from "../../ui/live-page";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";

type Page = Model<"LookPage">;
type Look = Model<"LookView">;
const SERVER = "server";
type Series = Model<"LookSeries">;

export function LookScreen({ id }: { id: string }) {
  const path = `/api/sites/${id}/looks`;
  const { page, problem, change } = useLivePage("LookPage", path, (data) => data.looks.some(underWay));
  if (!page.data) return <Pending what="the looks" error={page.error} />;
  const { data } = page;
  const stopping = (look: Look) => (look.probe === null ? `/api/sites/${id}/server-looks` : path);
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
          [`/sites/${id}/check`, "Check"],
        ]}
        title="Quick look"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Quick look, {data.site_name}</h1>
      <p className="mt-2 max-w-2xl leading-snug text-soft">
        Echoes from a probe, or from the server, to any name or address. Routers and hosts may answer them
        slowly or not at all while they pass calls on: what is shown here proves nothing about calls.
      </p>
      <Ask page={data} onAsk={(body) => change(post("LookPage", path, body))} />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      {data.looks.map((look) => (
        <Shown
          key={`${look.probe === null ? "server" : "probe"} ${look.id}`}
          look={look}
          onStop={() => change(post("LookPage", `${stopping(look)}/${look.id}/stop`, {}))}
        />
      ))}
    </>
  );
}

function Ask({ page, onAsk }: { page: Page; onAsk: (body: Model<"AskLook">) => void }) {
  const [probe, setProbe] = useState("");
  const [host, setHost] = useState("");
  const [rounds, setRounds] = useState<number | null>(null);
  const [interval, setInterval] = useState<number | null>(0.5);
  const [small, setSmall] = useState<number | null>(64);
  const [large, setLarge] = useState<number | null>(1400);
  const from =
    probe === SERVER
      ? undefined
      : (page.probes.find((one) => String(one.id) === probe) ??
        page.probes.find((one) => one.online) ??
        page.probes[0]);
  const ask = (event: FormEvent) => {
    event.preventDefault();
    onAsk({
      probe_id: from?.id ?? null,
      host: host.trim(),
      rounds,
      interval_s: interval ?? 0.5,
      small_bytes: small ?? 64,
      large_bytes: large,
    });
  };
  return (
    <form onSubmit={ask} className="mt-5 flex flex-wrap items-end gap-4">
      <SelectField
        label="From"
        value={from ? String(from.id) : SERVER}
        onChange={setProbe}
        options={[
          ...page.probes.map((one): [string, string] => [
            String(one.id),
            one.online ? one.name : `${one.name} (offline)`,
          ]),
          [SERVER, "the server"],
        ]}
      />
      <div className="w-60">
        <Field label="Name or address">
          <input
            className={INPUT}
            value={host}
            maxLength={253}
            placeholder="the gateway there"
            onChange={(event) => setHost(event.target.value)}
          />
        </Field>
      </div>
      <div className="w-32">
        <NumberField label="Rounds" placeholder="until stopped" value={rounds} onChange={setRounds} />
      </div>
      <div className="w-24">
        <NumberField label="Every" unit="s" value={interval} onChange={setInterval} />
      </div>
      <div className="w-32">
        <NumberField label="Small packets" unit="bytes" value={small} onChange={setSmall} />
      </div>
      <div className="w-32">
        <NumberField
          label="Large packets"
          unit="bytes"
          placeholder="none"
          value={large}
          onChange={setLarge}
        />
      </div>
      <Button act type="submit">
        Look
      </Button>
    </form>
  );
}

function Shown({ look, onStop }: { look: Look; onStop: () => void }) {
  const open = underWay(look);
  const left = look.seconds - look.after_s;
  return (
    <Section
      title={look.host || "Gateway"}
      aside={`${look.probe ?? "the server"}, ${ago(look.asked_us)}, every ${withUnit(look.interval_s, "s")}`}
    >
      <div role="status" className="mb-2 flex flex-wrap items-center gap-4">
        <p>
          {look.words}{" "}
          {open &&
            look.after_s > 0 &&
            `${duration(look.after_s)} so far, ${duration(Math.max(0, left))} to go at most.`}
        </p>
        {open && <Button onClick={onStop}>Stop</Button>}
      </div>
      {look.cannot.map((one) => (
        <Note key={one}>{one}</Note>
      ))}
      {look.series.length > 0 && <Figures series={look.series} />}
      {look.series.map(
        (one) =>
          one.rtt_us.length > 0 && (
            <LookStrip key={one.packet_bytes} series={one} intervalS={look.interval_s} />
          ),
      )}
    </Section>
  );
}

function Figures({ series }: { series: Series[] }) {
  return (
    <Wide label="Figures">
      <table className="w-full">
        <thead>
          <tr className="text-left text-sm text-soft [&>*]:pr-4 [&>*]:font-normal">
            {[
              "Packets",
              "To",
              "Sent",
              "Answered",
              "Lost",
              "Min",
              "Median",
              "p95",
              "Max",
              "Deviation",
              "Reordered, duplicated",
              "TTL",
            ].map((one) => (
              <th key={one}>{one}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {series.map((one) => (
            <tr key={one.packet_bytes} className="hair border-t align-top [&>*]:py-1.5 [&>*]:pr-4">
              <th className="text-left font-semibold whitespace-nowrap">{one.packet_bytes} bytes</th>
              <td className="break-words">{one.failure ?? one.address ?? DASH}</td>
              <td>{one.sent}</td>
              <td>{one.answered}</td>
              <td className="whitespace-nowrap">{lost(one)}</td>
              {[one.min_ms, one.median_ms, one.p95_ms, one.max_ms, one.deviation_ms].map((value, at) => (
                <td key={["min", "median", "p95", "max", "deviation"][at]} className="whitespace-nowrap">
                  {fixed(value, 1)} {value !== null && "ms"}
                </td>
              ))}
              <td>
                {one.reordered}, {one.duplicates}
              </td>
              <td>{one.ttls.join(", ") || DASH}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

/** Of those whose time is up; under twenty as a count, because a per cent of them would say too much. */
function lost(one: Series): string {
  const over = one.answered + one.lost;
  return over < 20 ? `${one.lost} of ${over}` : pct((100 * one.lost) / over);
}
