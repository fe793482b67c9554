import type { Model } from "../api/client";
import { paint } from "../shared/depth";
import { DASH } from "../shared/format";

/** Each dimension as a gauge of depth: the deeper the bar, the more points it took. */
export function ScoreTable(props: {
  dimensions: Model<"DimensionView">[];
  findings: Model<"FindingView">[];
}) {
  const titles = new Map(props.findings.map((f) => [f.key, f.title]));
  return (
    <table className="w-full">
      <tbody>
        {props.dimensions.map((d) => (
          <tr key={d.dimension} className="hair border-b align-top first:border-t [&>*]:py-2">
            <th className="w-40 pr-4 text-left font-semibold">
              {d.title}
              <span className="block text-sm font-normal text-soft">weight {d.weight}</span>
            </th>
            <td className="w-16 pr-4 text-right text-xl font-semibold">
              {d.score === null ? DASH : Math.round(d.score)}
            </td>
            <td className="text-sm leading-snug">
              <span aria-hidden="true" className="mb-1.5 block h-[5px] w-full bg-hair/60">
                {d.score !== null && (
                  <span
                    className="block h-full"
                    style={{ width: `${Math.max(1, 100 - d.score)}%`, background: paint(1 - d.score / 100) }}
                  />
                )}
              </span>
              {d.says}
              {d.lost_points > 0.05 && (
                <span className="block text-soft">
                  {d.lost_points.toFixed(1)} points lost
                  {d.taken_by ? ` to: ${titles.get(d.taken_by)}` : ", no single cause found"}
                </span>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
