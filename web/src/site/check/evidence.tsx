// What came back to a check, as tables: hops of each path, answers of name servers, services with the time of each step.
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get, type Model } from "../../api/client";
import { DASH } from "../../ui/format";
import { Wide } from "../../ui/wide";

type Result = Model<"CheckResult">;
type Path = Model<"PathFacts">;

const TABLES: Record<string, (result: Result) => ReactNode> = {
  gateway: (result) => <Echoes echoes={result.echoes.filter((one) => one.role === "gateway")} />,
  edge: (result) => <Echoes echoes={result.echoes.filter((one) => one.role === "edge")} />,
  outside: (result) => <Echoes echoes={result.echoes.filter((one) => one.role === "outside")} />,
  "packet-size": (result) => <Echoes echoes={result.large_echoes} />,
  translation: (result) => <Translation result={result} />,
  marking: (result) => <Media result={result} />,
  "far-end": (result) => (
    <>
      <Media result={result} />
      <Ports result={result} />
    </>
  ),
  path: (result) => <Paths result={result} />,
  names: (result) => <Names result={result} />,
  services: (result) => <Services result={result} />,
};
const METHODS = { udp: "UDP", icmp: "ICMP", tcp: "TCP" };

export const hasTable = (rung: string) => rung in TABLES;

export function Evidence({ rung, address }: { rung: string; address: string }) {
  const [open, setOpen] = useState(false);
  const found = useQuery({
    queryKey: ["evidence", address],
    queryFn: () => get("CheckEvidence", address),
    enabled: open,
  });
  return (
    <details className="mt-1 text-sm" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer text-soft">Each answer</summary>
      {found.data && TABLES[rung]?.(found.data.evidence)}
      {found.error && <p>{(found.error as Error).message}</p>}
    </details>
  );
}

const ms = (value: number | null | undefined) =>
  value === null || value === undefined ? DASH : value.toFixed(1);

function median(values: number[]): number | null {
  const sorted = [...values].sort((a, b) => a - b);
  const half = sorted.length >> 1;
  if (sorted.length === 0) return null;
  return sorted.length % 2 ? (sorted[half] ?? null) : ((sorted[half - 1] ?? 0) + (sorted[half] ?? 0)) / 2;
}

function Table({ label, head, rows }: { label: string; head: string[]; rows: ReactNode[][] }) {
  if (rows.length === 0) return null;
  return (
    <Wide label={label}>
      <table className="mt-2 w-full">
        <caption className="text-left font-semibold">{label}</caption>
        <thead>
          <tr className="text-left text-soft [&>*]:pr-4 [&>*]:font-normal">
            {head.map((one, at) => (
              <th key={`${at}-${one}`}>{one}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row, place) => (
            <tr key={place} className="hair border-t align-top [&>*]:py-1 [&>*]:pr-4">
              {row.map((cell, column) => (
                <td key={column} className="break-words">
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function Paths({ result }: { result: Result }) {
  const there = [result.path, ...result.other_paths].filter((one): one is Path => one !== null);
  return (
    <>
      {there.map((path) => (
        <Hops
          key={path.method}
          path={path}
          label={`To ${path.address} by ${METHODS[path.method]}${path.port ? ` port ${path.port}` : ""}`}
        />
      ))}
      {result.way_back && <Hops path={result.way_back} label="Back from the far end, by UDP" />}
    </>
  );
}

function Hops({ path, label }: { path: Path; label: string }) {
  return (
    <Table
      label={`${label}${path.reached ? "" : "; not reached"}`}
      head={["hop", "address", "answered", "median, ms", "DSCP there"]}
      rows={path.hops.map((hop) => [
        hop.ttl,
        [hop.address ?? DASH, ...hop.others].join(", "),
        `${hop.rtt_ms.length} of ${hop.sent}`,
        ms(median(hop.rtt_ms)),
        hop.dscp_seen ?? DASH,
      ])}
    />
  );
}

function Names({ result }: { result: Result }) {
  return (
    <Table
      label="Names"
      head={["name server", "name", "over", "ms", "answer"]}
      rows={result.names.map((one) => [
        one.resolver,
        one.name,
        one.transport.toUpperCase(),
        ms(one.took_ms),
        one.addresses.join(", ") || one.failure || `code ${one.rcode}`,
      ])}
    />
  );
}

function Services({ result }: { result: Result }) {
  const fetched = result.services.filter((one) => one.http);
  return (
    <>
      <Table
        label="Services"
        head={["service", "where", "answer", "ms", "said"]}
        rows={result.services.map((one) => [
          one.asked.name,
          `${one.asked.host} ${one.asked.protocol} ${one.asked.port}`,
          one.state,
          ms(one.took_ms),
          one.says || DASH,
        ])}
      />
      <Table
        label="HTTP, ms of each step"
        head={["service", "name", "connect", "TLS", "first byte", "last byte", "bytes"]}
        rows={fetched.map(({ asked, http }) => [
          asked.name,
          ms(http?.name_ms),
          ms(http?.connect_ms),
          ms(http?.tls_ms),
          ms(http?.first_byte_ms),
          ms(http?.last_byte_ms),
          `${http?.body_bytes ?? DASH}${http?.whole ? "" : ", cut"}`,
        ])}
      />
    </>
  );
}

function Echoes({ echoes }: { echoes: Result["echoes"] }) {
  return (
    <Table
      label="Echoes"
      head={["to", "packet", "answered", "each, ms", "TTL", "said"]}
      rows={echoes.map((one) => [
        one.address,
        `${one.packet_bytes} bytes`,
        `${one.answered} of ${one.sent}`,
        one.rtt_ms.map((value) => value.toFixed(1)).join(" ") || DASH,
        one.ttl ?? DASH,
        one.too_large
          ? `too large${one.next_mtu ? `; ${one.next_mtu} bytes fit` : ""}`
          : one.refused_by
            ? `refused by ${one.refused_by}`
            : DASH,
      ])}
    />
  );
}

function Media({ result }: { result: Result }) {
  const marks = (seen: Result["media"][number]["marks_up"]) =>
    seen.map((one) => `${one.packets} as ${one.dscp}`).join(", ") || "not told";
  return (
    <Table
      label="Calls of a second"
      head={["DSCP", "up", "arrived marked", "down", "arrived marked", "round trip, ms"]}
      rows={result.media.map((one) => [
        one.dscp,
        `${one.received_up} of ${one.sent_up}`,
        marks(one.marks_up),
        `${one.received_down} of ${one.sent_down}`,
        marks(one.marks_down),
        one.failure ?? ms(one.rtt_ms),
      ])}
    />
  );
}

function Ports({ result }: { result: Result }) {
  const ports = result.ports;
  if (!ports) return null;
  return (
    <Table
      label="Media ports"
      head={["port", "heard at the far end", "answered here"]}
      rows={ports.asked.map((one) => [
        one,
        ports.heard.includes(one) ? "yes" : "no",
        ports.answered.includes(one) ? "yes" : "no",
      ])}
    />
  );
}

function Translation({ result }: { result: Result }) {
  const told = result.translation;
  if (!told) return null;
  return (
    <>
      <Table
        label={`${told.own_address} port ${told.own_port} is seen as`}
        head={["by port", "address", "port"]}
        rows={told.mapped.map((one) => [one.port, one.address, one.from_port])}
      />
      <Table
        label="Silent sockets"
        head={["silent for, s", "a packet came through"]}
        rows={told.kept.map((one) => [
          one.silent_s,
          one.heard === null ? "not known" : one.heard ? "yes" : "no",
        ])}
      />
    </>
  );
}
