// Calls that signalling set up, a row for each and direction, as a phone's own statistics have it.
import type { Model } from "../../api/client";
import { DASH, withUnit } from "../../ui/format";
import { Wide } from "../../ui/wide";

export function SipCalls({ calls }: { calls: Model<"SipCallRecord">[] }) {
  return (
    <details className="mt-1 text-sm">
      <summary className="cursor-pointer text-soft">Calls</summary>
      <Wide label="Calls that signalling set up">
        <table className="mt-1 [&_td]:pr-5 [&_th]:pr-5 [&_th]:text-left [&_th]:font-normal [&_th]:text-soft">
          <thead>
            <tr className="border-b border-ink">
              <th>transport</th>
              <th>direction</th>
              <th>packets</th>
              <th>MOS</th>
              <th>R</th>
              <th>peak jitter</th>
              <th>marking</th>
              <th>SSRC</th>
            </tr>
          </thead>
          <tbody>
            {calls.map((one) => (
              <tr key={`${one.transport} ${one.direction}`} className="hair border-b">
                <td>{one.transport.toUpperCase()}</td>
                <td>{one.direction}</td>
                <td>
                  {one.arrived} of {one.sent}
                </td>
                <td>{one.mos?.toFixed(2) ?? DASH}</td>
                <td>{one.r_factor?.toFixed(0) ?? DASH}</td>
                <td>{one.jitter_peak_ms === null ? DASH : withUnit(one.jitter_peak_ms.toFixed(1), "ms")}</td>
                <td>{marking(one)}</td>
                <td className="font-mono">{one.ssrc.toString(16).padStart(8, "0")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="mt-1 text-soft">
        One second of G.711. One way is taken as half of the round trip that the check measured.
      </p>
    </details>
  );
}

function marking({ dscp_sent: sent, dscp_arrived: arrived }: Model<"SipCallRecord">): string {
  if (arrived.length === 0) return `DSCP ${sent}, arrival not told`;
  return arrived.length === 1 && arrived[0] === sent
    ? `DSCP ${sent}`
    : `DSCP ${sent}, arrived as ${arrived.join(", ")}`;
}
