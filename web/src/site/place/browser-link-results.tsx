// What tests from one browser found, for the consultant: calls, with what a probe found at that desk, and filled lines.
import { Link } from "react-router";
import type { Model } from "../../api/client";
import { dateTime, duration, fixed, ms, pct, plural, throughput } from "../../ui/format";
import { calledBy, Reach, titleOf } from "../../ui/reach";

type LinkOf = Model<"BrowserLinkView">;
type Run = Model<"SelfRun">;
type Fill = Model<"SelfFill">;

export function Runs({ runs, beside, zone }: { runs: Run[]; beside: LinkOf["beside"]; zone: string }) {
  return (
    <div className="mt-2 overflow-x-auto">
      <table className="w-full min-w-[560px] text-left text-sm">
        <thead className="text-soft">
          <tr>
            <th className="font-normal">Test</th>
            <th className="px-2 text-right font-normal">Loss up</th>
            <th className="px-2 text-right font-normal">down</th>
            <th className="px-2 text-right font-normal">Delay up</th>
            <th className="px-2 text-right font-normal">down</th>
            <th className="px-2 text-right font-normal">MOS up</th>
            <th className="px-2 text-right font-normal">down</th>
            <th className="pl-2 text-right font-normal">Its own scatter</th>
          </tr>
        </thead>
        <tbody>
          {runs.map((run) => (
            <tr key={run.run_id} className="border-t border-hair align-baseline">
              <th scope="row" className="py-1 pr-2 font-normal">
                <Link className="underline underline-offset-3" to={`/runs/${run.run_id}`}>
                  {dateTime(run.at_us, zone)}
                </Link>
                <span className="block text-soft">{wordsOf(run)}</span>
                <Reach reach={run.reach} title={titleOf(run.way)} />
              </th>
              <BothWays up={run.up} down={run.down} />
              <td className="pl-2 text-right">{ms(run.scatter_ms, 1)}</td>
            </tr>
          ))}
          {beside && (
            <tr className="border-t border-ink align-baseline">
              <th scope="row" className="py-1 pr-2 font-normal">
                <Link className="underline underline-offset-3" to={`/runs/${beside.run_id}`}>
                  {dateTime(beside.at_us, zone)}
                </Link>
                <span className="block text-soft">
                  Beside it, the probe {beside.probe} at the same test point, {apart(beside.apart_s)}, to{" "}
                  {beside.far_end}
                </span>
              </th>
              <BothWays up={beside.up} down={beside.down} />
              <td />
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}

function BothWays({ up, down }: Pick<Run, "up" | "down">) {
  const cell = "px-2 text-right";
  return (
    <>
      <td className={cell}>{pct(up?.loss_pct)}</td>
      <td className={cell}>{pct(down?.loss_pct)}</td>
      <td className={cell}>{ms(up?.delay_ms)}</td>
      <td className={cell}>{ms(down?.delay_ms)}</td>
      <td className={cell}>{fixed(up?.mos, 1)}</td>
      <td className={cell}>{fixed(down?.mos, 1)}</td>
    </>
  );
}

/** How long before or after the browser. */
function apart(seconds: number): string {
  if (Math.abs(seconds) < 60) return "in the same minute";
  return `${duration(Math.abs(seconds))} ${seconds < 0 ? "before" : "after"}`;
}

export function Fills({ fills, zone, slug }: { fills: Fill[]; zone: string; slug: string }) {
  return (
    <div className="mt-2 overflow-x-auto">
      <table className="w-full min-w-[560px] text-left text-sm">
        <thead className="text-soft">
          <tr>
            <th className="font-normal">Line filled</th>
            <th className="px-2 text-right font-normal">Carried up</th>
            <th className="px-2 text-right font-normal">down</th>
            <th className="px-2 text-right font-normal">Delay added up</th>
            <th className="px-2 text-right font-normal">down</th>
            <th className="px-2 text-right font-normal">MOS up</th>
            <th className="pl-2 text-right font-normal">down</th>
          </tr>
        </thead>
        <tbody>
          {fills.map((fill) => (
            <tr key={fill.job_id} className="border-t border-hair align-baseline">
              <th scope="row" className="py-1 pr-2 font-normal">
                <Link className="underline underline-offset-3" to={`/sites/${slug}/line`}>
                  {dateTime(fill.at_us, zone)}
                </Link>
                <span className="block text-soft">{fillWords(fill)}</span>
                <Reach reach={fill.reach} title={titleOf(fill.way)} />
              </th>
              <td className="px-2 text-right">{throughput(fill.up?.throughput_kbps)}</td>
              <td className="px-2 text-right">{throughput(fill.down?.throughput_kbps)}</td>
              <td className="px-2 text-right">{ms(fill.up?.added_ms)}</td>
              <td className="px-2 text-right">{ms(fill.down?.added_ms)}</td>
              <td className="px-2 text-right">{fixed(fill.up?.mos, 1)}</td>
              <td className="pl-2 text-right">{fixed(fill.down?.mos, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function fillWords(fill: Fill): string {
  if (fill.failure) return fill.failure;
  if (fill.says.length === 0) return "On its way";
  if (fill.doubts.length > 0) return `Not to be trusted: ${fill.doubts[0]}`;
  return `With a call to ${calledBy(fill.way, fill.far_end)}`;
}

function wordsOf(run: Run): string {
  if (run.state === "failed") return run.failure ?? "Failed";
  if (run.state !== "done") return "On its way";
  if (run.doubts.length > 0) return `Not to be trusted: ${run.doubts[0]}`;
  const good = Math.min(run.up?.acceptable ?? 0, run.down?.acceptable ?? 0);
  return `${good} of ${plural(run.calls, "call")} acceptable, to ${calledBy(run.way, run.far_end)}`;
}
