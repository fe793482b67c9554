// How a browser came to a far end: sentences, and the way from the far end towards it.
import type { Model } from "../api/client";
import { DASH, ms } from "./format";

/** Above it, of a test that took this way. */
export function titleOf(way: Model<"SelfRun">["way"]): string {
  return way === "socket" ? "How its packets went" : "How this browser reached the far end";
}

/** What was called, by which way, for a consultant. */
export function calledBy(way: Model<"SelfRun">["way"], farEnd: string): string {
  if (way === "relay") return `${farEnd}, through a relay: never counted`;
  if (way === "socket") return `this server over WebSocket, as no UDP reached ${farEnd}: never counted`;
  return farEnd;
}

export function Reach({ reach, title }: { reach: Model<"SelfReach">; title: string }) {
  if (reach.says.length === 0) return null;
  return (
    <details className="mt-1 max-w-[62ch]">
      <summary className="cursor-pointer">{title}</summary>
      <ul className="list-disc pl-5 leading-snug">
        {reach.says.map((one) => (
          <li key={one}>{one}</li>
        ))}
      </ul>
      <Hops hops={reach.hops} title="From the far end towards the browser" />
    </details>
  );
}

/** A way, hop by hop; nothing where none said anything. */
export function Hops({ hops, title }: { hops: Model<"ReachHop">[]; title: string }) {
  if (hops.length === 0) return null;
  return (
    <table className="mt-1 ml-5 text-left">
      <caption className="whitespace-nowrap text-left text-soft">{title}</caption>
      <thead className="sr-only">
        <tr>
          <th>Hop</th>
          <th>Address</th>
          <th>Round trip</th>
        </tr>
      </thead>
      <tbody>
        {hops.map((hop) => (
          <tr key={hop.number} className="align-baseline">
            <td className="pr-3 text-right text-soft">{hop.number}</td>
            <td className="pr-4">{hop.address ?? DASH}</td>
            <td className="text-right">{ms(hop.rtt_ms, 1)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
