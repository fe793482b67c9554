// Runs, a line each.
import { Link } from "react-router";
import type { Model } from "../api/client";
import { dateTime, marking, withUnit } from "../ui/format";
import { Term } from "../ui/term";
import { Wide } from "../ui/wide";

export function RunTable({ runs, timeZone }: { runs: Model<"RunLine">[]; timeZone: string }) {
  return (
    <Wide label="Runs">
      <table className="w-full">
        <thead>
          <tr className="text-left text-sm text-soft [&>th]:pr-6 [&>th]:font-normal">
            <th>Placed</th>
            <th>Concurrent calls</th>
            <th>Length</th>
            <th>Codec</th>
            <th>
              <Term of="marking" />
            </th>
            <th>Acceptable</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          {runs.map((run) => (
            <tr key={run.id} className="hair border-t align-top [&>td]:py-1.5 [&>td]:pr-6">
              <td>
                <Link
                  to={`/runs/${run.id}`}
                  className="underline decoration-hair underline-offset-3 hover:decoration-ink"
                >
                  {dateTime(run.created_us, timeZone)}
                </Link>
                {run.name && <span className="block font-semibold">{run.name}</span>}
                {run.note && <span className="block max-w-72 text-sm text-soft">{run.note}</span>}
              </td>
              <td>{run.calls}</td>
              <td>{withUnit(run.seconds, "s")}</td>
              <td>
                <span className="whitespace-nowrap">{run.codec_title}</span>, {withUnit(run.ptime_ms, "ms")}
                {run.load && <span className="block text-sm text-soft">{run.load}</span>}
              </td>
              <td>{marking(run.dscp)}</td>
              <td>{run.good === null ? "–" : `${run.good} of ${run.calls}`}</td>
              <td>
                {run.words}
                {run.cut && ` · cut: ${run.cut}`}
                {run.tainted && " · invalid: an end disturbed its own measurement"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}
