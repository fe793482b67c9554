// The rungs of a check from the machine itself outwards, each with what was seen and its figures one press away.
import type { ReactNode } from "react";
import type { Model } from "../../api/client";
import { DASH, withUnit } from "../../ui/format";
import { StateMark } from "../../ui/state-mark";
import { Wide } from "../../ui/wide";
import { Evidence, hasTable } from "./evidence";
import { SipCalls } from "./sip-calls";
import { SipLadder } from "./sip-ladder";

type Rung = Model<"Rung">;

const MARKS = { passed: "shown", failed: "shown not", unproven: "open" } as const;
const NAMES: Record<string, string> = {
  answered: "answered",
  answering: "hops that answer",
  asked: "asked",
  back_hops: "hops back",
  binding_at_least_s: "open after a silence of",
  binding_under_s: "closed after a silence of",
  changes: "lines changed",
  connect_ms: "connected in",
  gateway: "gateway",
  hops: "hops",
  interface: "interface",
  max_ms: "longest round trip",
  messages: "messages",
  median_ms: "median",
  medium: "medium",
  min_ms: "shortest round trip",
  mtu: "MTU",
  next_mtu: "a link takes",
  open: "open",
  p50_ms: "median round trip",
  packet_bytes: "packet",
  ports_answered: "media ports that answer",
  ports_asked: "media ports asked",
  reached: "reached",
  registrar_call_ms: "call through the registrar set up in",
  registrar_ms: "registered in",
  rtt_ms: "round trip of time stamps",
  seen_from: "seen as",
  sent: "sent",
  servers: "name servers",
  tcp_ms: "answers over TCP took",
  tls_ms: "answers over TLS took",
  udp_ms: "answers over UDP took",
  wifi_signal_dbm: "Wi-Fi signal, dBm",
};

export function Ladder({
  check,
  open,
  address,
}: {
  check: Model<"CheckView">;
  open: boolean;
  /** Of the check, below which its evidence and its messages are. */
  address: string;
}) {
  return (
    <Wide label="The ladder">
      <table className="w-full">
        <thead className="sr-only">
          <tr>
            <th>Answer</th>
            <th>Rung</th>
            <th>What was seen</th>
          </tr>
        </thead>
        <tbody>
          {check.rungs.map((rung) => (
            <Line
              key={rung.key}
              rung={rung}
              more={
                <>
                  {!open && rung.took_ms !== null && told(rung) && (
                    <Evidence rung={rung.key} address={`${address}/evidence`} />
                  )}
                  {rung.key === "signalling" && <Signalling check={check} address={address} />}
                </>
              }
              toCome={open && rung.state === "unproven" && rung.took_ms === null}
            />
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function Signalling({ check, address }: { check: Model<"CheckView">; address: string }) {
  const file = `${address}/signalling.txt`;
  return (
    <>
      {check.sip_calls.length > 0 && <SipCalls calls={check.sip_calls} />}
      {check.signalling.length > 0 && <SipLadder messages={check.signalling} other="far end" file={file} />}
      {check.registrar.length > 0 && <SipLadder messages={check.registrar} other="registrar" file={file} />}
    </>
  );
}

/** Whether there is a table of what came back for it. */
const told = (rung: Rung) =>
  hasTable(rung.key) && (rung.key === "marking" || Object.keys(rung.figures).length > 0);

function Line({ rung, toCome, more }: { rung: Rung; toCome: boolean; more: ReactNode }) {
  return (
    <tr className="hair border-b align-top first:border-t [&>*]:py-2 [&>*]:pr-5">
      <td className="w-28 whitespace-nowrap">
        <StateMark state={MARKS[rung.state]} />
        <span className={`ml-2 ${toCome ? "text-soft" : "font-semibold"}`}>
          {toCome ? "to come" : rung.state}
        </span>
      </td>
      <th className="w-40 text-left leading-snug font-semibold">{rung.title}</th>
      <td className="leading-snug">
        {!toCome && rung.says}
        <Figures rung={rung} />
        {more}
      </td>
    </tr>
  );
}

function Figures({ rung }: { rung: Rung }) {
  const figures = Object.entries(rung.figures);
  if (figures.length === 0) return null;
  return (
    <details className="mt-1 text-sm">
      <summary className="cursor-pointer text-soft">Figures</summary>
      <dl className="mt-1 grid grid-cols-[max-content_1fr] gap-x-4">
        {figures.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{NAMES[name] ?? name}</dt>
            <dd>{words(name, value)}</dd>
          </div>
        ))}
        {rung.took_ms !== null && (
          <div className="contents">
            <dt className="text-soft">asking took</dt>
            <dd>{withUnit((rung.took_ms / 1000).toFixed(1), "s")}</dd>
          </div>
        )}
      </dl>
    </details>
  );
}

function words(name: string, value: string | number | null): string {
  if (value === null) return DASH;
  if (typeof value === "string") return value;
  if (name.endsWith("_s")) return withUnit(value.toFixed(0), "s");
  if (name.endsWith("_ms")) return withUnit(value.toFixed(1), "ms");
  return name === "packet_bytes" || name.endsWith("mtu") ? `${value} bytes` : String(value);
}
