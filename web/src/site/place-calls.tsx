// Placing calls: what to send, and at once what it costs on this site's line.
import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model, post } from "../api/client";
import { Button, Field, INPUT, Note } from "../shared/controls";
import { count, pct } from "../shared/format";
import { Sheet } from "../shared/sheet";

type Site = Model<"SitePage">;

const MARKINGS: [number, string][] = [
  [46, "EF (46), usual for voice"],
  [0, "best effort (0)"],
  [34, "AF41 (34), usual for video"],
  [40, "CS5 (40)"],
];
const RTP_UDP_IP = 40;
const WIRE = 38;

export function PlaceCalls(props: { site: Site; open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Dialog.Root open={props.open} onOpenChange={props.onOpenChange}>
      <Sheet title={`Place calls from ${props.site.name}`}>
        <PlaceForm site={props.site} />
      </Sheet>
    </Dialog.Root>
  );
}

function PlaceForm({ site }: { site: Site }) {
  const navigate = useNavigate();
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const [codecName, setCodecName] = useState(site.brief.codec);
  const [ptime, setPtime] = useState(site.brief.ptime_ms);
  const [calls, setCalls] = useState(String(site.brief.needed_calls));
  const [seconds, setSeconds] = useState("30");
  const [dscp, setDscp] = useState(46);
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const codec = codecs.data?.codecs.find((c) => c.name === codecName);
  const probe = site.probes[0];

  const place = async () => {
    setBusy(true);
    setProblem(null);
    try {
      const run = await post("RunPage", `/api/sites/${site.slug}/runs`, {
        codec: codecName,
        ptime_ms: ptime,
        calls: Number(calls),
        seconds: Number(seconds),
        dscp,
      });
      navigate(`/runs/${run.id}`);
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };

  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        place();
      }}
    >
      <p className="mt-1 text-soft">
        {probe ? `${probe.name} (${probe.spot})` : "no probe"} ⇄ {site.far_ends[0]?.name ?? "no far end"},
        both directions at once.
      </p>
      <div className="mt-5 grid grid-cols-[1.35fr_0.8fr_1.25fr] gap-4">
        <Field label="Codec">
          <select
            className={INPUT}
            value={codecName}
            onChange={(event) => {
              const next = codecs.data?.codecs.find((c) => c.name === event.target.value);
              setCodecName(event.target.value);
              if (next && !next.intervals_ms.includes(ptime)) setPtime(next.intervals_ms[0] ?? 20);
            }}
          >
            {codecs.data?.codecs.map((c) => (
              <option key={c.name} value={c.name}>
                {c.title}
              </option>
            ))}
          </select>
        </Field>
        <Field label="Packetisation interval">
          <select className={INPUT} value={ptime} onChange={(event) => setPtime(Number(event.target.value))}>
            {(codec?.intervals_ms ?? [ptime]).map((p) => (
              <option key={p} value={p}>
                {p} ms
              </option>
            ))}
          </select>
        </Field>
        <Field label="Marking">
          <select className={INPUT} value={dscp} onChange={(event) => setDscp(Number(event.target.value))}>
            {MARKINGS.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
        </Field>
        <Field label="Concurrent calls" hint="1 to 100">
          <input
            className={INPUT}
            inputMode="numeric"
            value={calls}
            onChange={(event) => setCalls(event.target.value)}
          />
        </Field>
        <Field label="Seconds each" hint="60 or more tell most">
          <input
            className={INPUT}
            inputMode="numeric"
            value={seconds}
            onChange={(event) => setSeconds(event.target.value)}
          />
        </Field>
      </div>
      <Cost site={site} ptime={ptime} calls={Number(calls)} seconds={Number(seconds)} codec={codec} />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6 flex gap-3">
        <Button act type="submit" disabled={busy}>
          Place {calls} {calls === "1" ? "call" : "calls"}
        </Button>
        <Dialog.Close className="border border-ink bg-raised px-4 py-1.5 font-semibold">Cancel</Dialog.Close>
      </div>
    </form>
  );
}

interface CostProps {
  site: Site;
  ptime: number;
  calls: number;
  seconds: number;
  codec: Model<"CodecView"> | undefined;
}

/** The arithmetic, always in sight. Payload from the codec's rate as the server packs it. */
function Cost({ site, ptime, calls, seconds, codec }: CostProps) {
  const payload = codec?.payload_bytes[codec.intervals_ms.indexOf(ptime)];
  if (!payload || !(calls > 0) || !(seconds > 0))
    return <p className="mt-5 h-12 text-soft">How many, how long?</p>;
  const perSecond = 1000 / ptime;
  const ip = ((payload + RTP_UDP_IP) * 8 * perSecond * 1.05 * calls) / 1000;
  const wire = ((payload + RTP_UDP_IP + WIRE) * 8 * perSecond * calls) / 1000;
  const share = (line: number | null) =>
    line ? pct((100 * ip) / line, ip / line > 0.1 ? 0 : 1) : "an unknown share";
  return (
    <p className="mt-5 border-y border-hair py-2.5 leading-snug">
      {count(Math.round(ip))} kbit/s each way at IP with RTCP, {count(Math.round(wire))} on an Ethernet wire:{" "}
      {share(site.brief.up_kbps)} of the line up, {share(site.brief.down_kbps)} down. Takes {seconds} s and
      sends {count(Math.floor((2 * calls * seconds * 1000) / ptime))} packets.
    </p>
  );
}
