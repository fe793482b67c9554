// What several logs of ping say together: place by place, and what each leg adds.
import type { Model } from "../api/client";
import { roleWords } from "../site/load/roles";
import { ms, pct } from "../ui/format";
import { Wide } from "../ui/wide";
import { depthOfMos, paint } from "./depth";

type Path = Model<"EchoPathView">;

/** Half a percent is seen, five is the bottom. */
const DEEPEST_LOSS_PCT = 5;

export function EchoPath({ path }: { path: Path }) {
  return (
    <>
      <p className="font-semibold">{path.says}</p>
      <div className="mt-3">
        <Wide label="Legs">
          <table className="w-full min-w-[720px] text-[15px]">
            <thead>
              <tr className="text-left text-sm text-soft [&>th]:pr-4 [&>th]:pb-1 [&>th]:font-normal">
                <th>Leg</th>
                <th>Loss added</th>
                <th>Median added</th>
                <th title={path.minutes ? "95th percentile of the minutes’ own 95th percentiles" : undefined}>
                  {path.minutes ? "Added in the worst minutes" : "95th percentile added"}
                </th>
                <th>Up to</th>
                <th>Its own answers</th>
              </tr>
            </thead>
            <tbody>
              {path.legs.map((leg, i) => {
                const place = path.places[i];
                return (
                  <tr key={leg.to} className="hair border-t align-top [&>td]:py-1.5 [&>td]:pr-4">
                    <th scope="row" className="py-1.5 pr-4 text-left font-semibold">
                      <span
                        aria-hidden="true"
                        className="mr-2 inline-block h-3 w-6 border border-hair align-baseline"
                        style={{ background: paint(Math.min(1, leg.loss_pct / DEEPEST_LOSS_PCT)) }}
                      />
                      {leg.leg}
                    </th>
                    <td>{pct(leg.loss_pct, 2)}</td>
                    <td>{ms(leg.p50_ms, 1)}</td>
                    <td>{ms(leg.p95_ms, 1)}</td>
                    <td>
                      {roleWords(leg.to)}
                      {place?.host && <span className="ml-2 font-mono text-[13px]">{place.host}</span>}
                    </td>
                    <td>
                      {place &&
                        `${place.lost} of ${place.sent} unanswered, ${ms(place.p50_ms, 1)} median, ${ms(place.p95_ms, 1)} 95th percentile`}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </Wide>
      </div>
      {path.not_faults.map(([key, says]) => (
        <p key={says} className="mt-2">
          <span className="text-soft">No fault ({key}): </span>
          {says}
        </p>
      ))}
      <p className="mt-2 text-sm text-soft">
        {path.minutes
          ? `Compared minute by minute, over ${path.minutes} minutes that all logs have.`
          : "The logs do not tell the same times: they are compared as wholes."}{" "}
        A place may answer slowly for itself; what is on the way to it is the least of it and all beyond it.
      </p>
    </>
  );
}

/** The depth a share of unanswered echoes is painted in beside calls: as loss is on the day sheet. */
export function depthOfCell(cell: { mos: number | null; loss_pct: number }): number {
  return cell.mos === null ? Math.min(1, cell.loss_pct / DEEPEST_LOSS_PCT) : depthOfMos(cell.mos);
}
