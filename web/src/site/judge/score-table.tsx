// The score by dimension: earned, open and lost points side by side, and each lost point with the cause that took it.
import { Link } from "react-router";
import type { Model } from "../../api/client";
import { ScoreBar } from "../../charts/score-bar";
import { Wide } from "../../ui/wide";

export function ScoreTable(props: { dimensions: Model<"DimensionView">[] }) {
  return (
    <Wide label="Score">
      <table className="w-full">
        <tbody>
          {props.dimensions.map((d) => (
            <tr key={d.dimension} className="hair border-b align-top first:border-t [&>*]:py-2">
              <th className="w-40 pr-4 text-left font-semibold">
                {d.title}
                <span className="block text-sm font-normal text-soft">weight {d.weight}</span>
              </th>
              <td className="w-24 pr-4 text-right text-lg font-semibold whitespace-nowrap">
                {range(d.low, d.high)}
              </td>
              <td className="text-sm leading-snug">
                <span className="mb-1.5 block">
                  <ScoreBar low={d.low} high={d.high} />
                </span>
                {d.says}
                {d.lost_points > 0.05 && (
                  <span className="block text-soft">
                    {d.lost_points.toFixed(1)} points lost
                    {d.taken.length === 0 && ", no cause found"}
                    {d.taken.map((t, i) => (
                      <span key={t.anchor}>
                        {i === 0 ? ": " : ", "}
                        {t.points.toFixed(1)} to{" "}
                        <Link to={`#${t.anchor}`} className="underline underline-offset-3">
                          “{t.title}”
                        </Link>
                      </span>
                    ))}
                  </span>
                )}
                {d.open_points > 0.05 && (
                  <span className="block text-soft">{d.open_points.toFixed(1)} points open</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function range(low: number, high: number): string {
  const [a, b] = [Math.round(low), Math.round(high)];
  return a === b ? String(a) : `${a} to ${b}`;
}
