// What tests from one browser found, newest first, in plain words.
import type { Model } from "../api/client";
import { dateTime, fixed, ms, pct, plural, throughput, withUnit } from "../ui/format";
import { Reach, titleOf } from "../ui/reach";
import { BY_WAY } from "./by-way";
import { letterWith } from "./copy";

type Page = Model<"TestPage">;
type Run = Model<"SelfRun">;
type Way = Model<"SelfRunDirection">;
type Fill = Model<"SelfFill">;
type FillWay = Model<"SelfFillWay">;

export function Results({ page }: { page: Page }) {
  const letter = letterWith(page, (run) => verdict(run, page.target_mos));
  return (
    <section className="mt-10">
      <h2 className="text-lg">What was found</h2>
      <ol className="mt-2 space-y-5">
        {newestFirst(page).map(({ run, fill }) => (
          <li key={run?.run_id ?? fill?.job_id} className="border-t border-ink pt-2">
            {run && (
              <>
                <p className="text-sm text-soft">
                  {dateTime(run.at_us, page.time_zone)} · {plural(run.calls, "call")} to {run.far_end}
                  {BY_WAY[run.way]}
                </p>
                <Found run={run} target={page.target_mos} />
              </>
            )}
            {fill && (
              <>
                <p className="text-sm text-soft">
                  {dateTime(fill.at_us, page.time_zone)} · the line filled, with a call to {fill.far_end}
                  {BY_WAY[fill.way]}
                </p>
                <Filled fill={fill} />
              </>
            )}
          </li>
        ))}
      </ol>
      {letter && (
        <p className="mt-5">
          <a className="underline underline-offset-3" href={letter}>
            Send a copy of the newest by e-mail
          </a>
        </p>
      )}
      <Glossary target={page.target_mos} filled={page.fills.length > 0} />
    </section>
  );
}

function newestFirst(page: Page): { run?: Run; fill?: Fill }[] {
  const all = [
    ...page.runs.map((run) => ({ at: run.at_us, run })),
    ...page.fills.map((fill) => ({ at: fill.at_us, fill })),
  ];
  return all.sort((a, b) => b.at - a.at);
}

/** Of a call by telephone (ITU-T G.107). */
const BEST_MOS = 4.4;
const TOO_BUSY = "This computer or the far end was too busy to measure. Close other programs and test again.";

/** What a call had while the line was filled. */
function Filled({ fill }: { fill: Fill }) {
  if (fill.failure || fill.says.length === 0) {
    return (
      <p role="status" className="mt-1 leading-snug">
        {fill.failure ?? "Delivered. It is being judged …"}
      </p>
    );
  }
  return (
    <>
      {(fill.doubts.length > 0 ? [TOO_BUSY] : fill.says).map((sentence) => (
        <p key={sentence} className="mt-1 leading-snug">
          {sentence}
        </p>
      ))}
      <div className="overflow-x-auto" tabIndex={-1}>
        <table className="mt-2 w-full text-left">
          <thead className="text-sm text-soft">
            <tr>
              <th className="font-normal">Line full</th>
              <th className="px-2 text-right font-normal">Carried</th>
              <th className="px-2 text-right font-normal">Delay added</th>
              <th className="px-2 text-right font-normal">Loss</th>
              <th className="pl-2 text-right font-normal">MOS, idle and full</th>
            </tr>
          </thead>
          <tbody>
            <FilledRow name="From here" way={fill.up} />
            <FilledRow name="To here" way={fill.down} />
          </tbody>
        </table>
      </div>
      {fill.doubts.length > 0 && <Doubts doubts={fill.doubts} />}
      <Reach reach={fill.reach} title={titleOf(fill.way)} />
    </>
  );
}

function FilledRow({ name, way }: { name: string; way: FillWay | null }) {
  return (
    <tr className="border-t border-hair align-baseline">
      <th scope="row" className="py-1 font-normal">
        {name}
      </th>
      <td className="px-2 text-right">{throughput(way?.throughput_kbps)}</td>
      <td className="px-2 text-right">{ms(way?.added_ms)}</td>
      <td className="px-2 text-right">{pct(way?.loss_pct)}</td>
      <td className="pl-2 text-right">
        {fixed(way?.mos_idle, 1)} → {fixed(way?.mos, 1)}
      </td>
    </tr>
  );
}

function Doubts({ doubts }: { doubts: string[] }) {
  return (
    <details className="mt-1">
      <summary className="cursor-pointer">Why these figures are not to be trusted</summary>
      <ul className="list-disc pl-5 leading-snug">
        {doubts.map((doubt) => (
          <li key={doubt}>{doubt}</li>
        ))}
      </ul>
    </details>
  );
}

function Found({ run, target }: { run: Run; target: number }) {
  if (run.state !== "done") {
    return (
      <>
        <p role="status" className="mt-1 leading-snug">
          {run.state === "failed" ? run.failure : "Delivered. It is being judged …"}
        </p>
        {run.state === "failed" && <Reach reach={run.reach} title="What else this browser tried" />}
      </>
    );
  }
  return (
    <>
      <p className="mt-1 text-lg leading-snug">{verdict(run, target)}</p>
      <div className="overflow-x-auto" tabIndex={-1}>
        <table className="mt-2 w-full text-left">
          <thead className="text-sm text-soft">
            <tr>
              <th className="font-normal">Packets</th>
              <th className="px-2 text-right font-normal">Loss</th>
              <th className="px-2 text-right font-normal">Delay</th>
              <th className="px-2 text-right font-normal">Jitter</th>
              <th className="pl-2 text-right font-normal">MOS</th>
            </tr>
          </thead>
          <tbody>
            <Row name="From here" way={run.up} />
            <Row name="To here" way={run.down} />
          </tbody>
        </table>
      </div>
      {run.failure && <p className="mt-1 leading-snug">It was broken off: {run.failure}</p>}
      {run.doubts.length > 0 && <Doubts doubts={run.doubts} />}
      <Reach reach={run.reach} title={titleOf(run.way)} />
      {run.hidden_s >= 1 && (
        <p className="mt-1 text-sm text-soft">
          The page was in the background for {withUnit(fixed(run.hidden_s, 0), "s")}.
        </p>
      )}
      {run.scatter_ms !== null && (
        <p className="mt-1 text-sm text-soft">
          The browser itself let 99 of 100 packets wait for up to {ms(run.scatter_ms, 1)}: delay and jitter
          are known no finer than that.
        </p>
      )}
    </>
  );
}

function Row({ name, way }: { name: string; way: Way | null }) {
  return (
    <tr className="border-t border-hair align-baseline">
      <th scope="row" className="py-1 font-normal">
        {name}
      </th>
      <td className="px-2 text-right">{pct(way?.loss_pct)}</td>
      <td className="px-2 text-right">{ms(way?.delay_ms)}</td>
      <td className="px-2 text-right">{ms(way?.jitter_ms)}</td>
      <td className="pl-2 text-right">{fixed(way?.mos, 1)}</td>
    </tr>
  );
}

/** What it means for somebody who wants to telephone. */
function verdict(run: Run, target: number): string {
  if (run.own_doubt) return "This computer was too busy to measure. Close other programs and test again.";
  if (run.doubts.length > 0) return "The far end was too busy to measure. Test again in a few minutes.";
  const good = Math.min(run.up?.acceptable ?? 0, run.down?.acceptable ?? 0);
  if (good === run.calls) return "Calls would have sounded good both ways.";
  const up = (run.up?.mos ?? 1) < target;
  const down = (run.down?.mos ?? 1) < target;
  if (up && down) return "Calls would have sounded bad both ways.";
  if (up) return "Others would have heard this desk badly.";
  if (down) return "This desk would have heard others badly.";
  return `${good} of ${plural(run.calls, "call")} would have been good.`;
}

function Glossary({ target, filled }: { target: number; filled: boolean }) {
  return (
    <details className="mt-6">
      <summary className="cursor-pointer font-semibold">What these words mean</summary>
      <dl className="mt-2 space-y-2 leading-snug">
        <div>
          <dt className="font-semibold">Loss</dt>
          <dd>
            Packets that never came, or came too late to be played. From about 1&nbsp;% on, words break up.
          </dd>
        </div>
        <div>
          <dt className="font-semibold">Delay</dt>
          <dd>
            How long a packet takes one way. From about 150 ms on, people begin to talk over each other.
          </dd>
        </div>
        <div>
          <dt className="font-semibold">Jitter</dt>
          <dd>
            How unevenly packets come: how much the delay changes from one to the next, smoothed, at its peak
            (RFC 3550). Phones even out some of it; what comes too late for that is in the loss above.
          </dd>
        </div>
        <div>
          <dt className="font-semibold">MOS</dt>
          <dd>
            How a call would be judged by people who hear it, worked out from the three above: 1 is bad,{" "}
            {fixed(BEST_MOS, 1)} is as good as a telephone gets. Here {fixed(target, 1)} is wanted.
          </dd>
        </div>
        {filled && (
          <div>
            <dt className="font-semibold">Carried, and delay added</dt>
            <dd>
              What the line moved while it was full, and by how much a call’s packets took longer then: of
              twenty, the slowest but one. From about 100 ms on, a large upload or download spoils calls.
            </dd>
          </div>
        )}
      </dl>
    </details>
  );
}
