// What was measured and each change beneath it: verdict, score, share of acceptable calls with its interval.
import type { Model } from "../../api/client";
import { Button } from "../../ui/controls";
import { DASH, fixed, pct, plural } from "../../ui/format";
import { StateMark } from "../../ui/state-mark";
import { scoreWords, VerdictMark } from "../../ui/verdict";
import { Wide } from "../../ui/wide";

type Page = Model<"WhatIfPage">;
type Outcome = Model<"TriedOutcome">;
type Tried = Model<"WhatIfView">;

const STATES = { shown: "shown", "shown not": "not met", open: "open" } as const;

export function Outcomes({ page, onRemove }: { page: Page; onRemove: (id: number) => void }) {
  return (
    <section className="min-w-0" aria-label="Outcomes">
      <Wide label="Outcomes">
        <table className="w-full [&_td]:pr-5 [&_th]:pr-5 [&_th]:text-left">
          <thead>
            <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
              <th>Change</th>
              <th>Verdict</th>
              <th>Score</th>
              <th>Acceptable calls in business hours</th>
              <th>Concurrent calls shown</th>
            </tr>
          </thead>
          <tbody className="hair border-t">
            <Row words="As measured" outcome={page.measured} strong />
          </tbody>
          {page.tried.map((one) => (
            <Change key={one.id} tried={one} onRemove={() => onRemove(one.id)} />
          ))}
        </table>
      </Wide>
      {page.tried.length === 0 && (
        <p className="mt-5 max-w-xl leading-snug">
          Nothing was tried here yet. Choose what should be different, such as media first at the router on
          upload, and press <span className="font-semibold">Try it</span>. A week of calls takes some seconds.
        </p>
      )}
    </section>
  );
}

function Change({ tried, onRemove }: { tried: Tried; onRemove: () => void }) {
  const { at_least, at_best, state } = tried;
  const words = tried.says.join(" · ");
  return (
    <tbody className="hair border-t align-top">
      {at_least ? (
        <>
          <Row words={words} note={at_best ? "at least" : undefined} outcome={at_least} strong />
          {at_best && <Row words="" note="at best" outcome={at_best} />}
        </>
      ) : (
        <tr className="[&>*]:py-2">
          <th className="max-w-64 font-semibold leading-snug">{words}</th>
          <td colSpan={4} role="status">
            {state === "failed"
              ? "This could not be tried; the server’s log says why. Try it again."
              : state === "ready"
                ? "Tried by another version. Try it again."
                : state === "waiting"
                  ? "waiting for the clerk …"
                  : "playing the packets again …"}
          </td>
        </tr>
      )}
      <tr>
        <td colSpan={5} className="pb-3">
          <div className="flex flex-wrap items-start justify-between gap-4">
            <div className="max-w-2xl min-w-0 flex-1">
              {at_least && tried.measured && (
                <Differences before={tried.measured} least={at_least} best={at_best} />
              )}
              {tried.behind && at_least && (
                <p className="text-sm">Evidence or brief have changed since. Try it again.</p>
              )}
              {tried.cautions.length > 0 && (
                <details className="mt-1 text-sm">
                  <summary className="cursor-pointer text-soft">
                    How it was read, and what it cannot know
                  </summary>
                  <ul className="mt-1 list-disc space-y-1 pl-5 leading-snug">
                    {tried.cautions.map((line) => (
                      <li key={line}>{line}</li>
                    ))}
                  </ul>
                </details>
              )}
            </div>
            <Button onClick={onRemove} aria-label={`Remove: ${words}`}>
              Remove
            </Button>
          </div>
        </td>
      </tr>
    </tbody>
  );
}

function Row(props: {
  words: string;
  note?: string | undefined;
  outcome: Outcome;

  strong?: boolean;
}) {
  const { outcome, note } = props;
  return (
    <tr className="[&>*]:py-2">
      <th className={`max-w-64 leading-snug ${props.strong ? "font-semibold" : "font-normal"}`}>
        {props.words}
        {note && <span className="block text-sm font-normal text-soft">{note}</span>}
      </th>
      <td>
        <span className="flex items-center gap-2 leading-tight">
          <VerdictMark word={outcome.word} provisional={outcome.provisional} />
          <span>
            {outcome.word}
            {outcome.provisional && <span className="block text-sm text-soft">provisional</span>}
          </span>
        </span>
      </td>
      <td className="whitespace-nowrap font-semibold">{scoreWords(outcome)}</td>
      <td>
        <ShareLine outcome={outcome} />
      </td>
      <td>{outcome.sustained ?? DASH}</td>
    </tr>
  );
}

const WIDTH = 190;

/** The share with its interval on a line from 0 to 100 %; the notch is what is required. */
function ShareLine({ outcome }: { outcome: Outcome }) {
  const at = (pct: number) => (pct / 100) * WIDTH;
  if (outcome.share.pct === null) return <span className="text-soft">no call counts</span>;
  return (
    <span className="block">
      <svg viewBox={`-3 0 ${WIDTH + 6} 14`} className="block h-3.5 w-[196px]" aria-hidden="true">
        <path d={`M0 9H${WIDTH}`} stroke="var(--ink)" strokeWidth="0.7" />
        <path
          d={`M${at(outcome.share.low_pct)} 9H${at(outcome.share.high_pct)}`}
          stroke="var(--depth-3)"
          strokeWidth="4"
        />
        <path
          d={`M${at(outcome.required_share_pct)} 1V13`}
          stroke="var(--ink)"
          strokeWidth="1.2"
          strokeDasharray="2 1.5"
        />
        <circle cx={at(outcome.share.pct)} cy="9" r="3" fill="var(--ink)" />
      </svg>
      <span className="text-sm whitespace-nowrap">
        {pct(outcome.share.pct, 1)} ({fixed(outcome.share.low_pct, 1)} to {fixed(outcome.share.high_pct, 1)})
        <span className="text-soft">
          {" "}
          · {outcome.share.good} of {plural(outcome.share.calls, "call")}
        </span>
      </span>
    </span>
  );
}

/** Requirements that would stand otherwise, and causes that would be gone or new. */
function Differences({ before, least, best }: { before: Outcome; least: Outcome; best: Outcome | null }) {
  const last = best ?? least;
  const was = new Map(before.requirements.map((one) => [one.key, one.state]));
  const states = least.requirements.flatMap((one, i) => {
    const then = last.requirements[i]?.state ?? one.state;
    const now = was.get(one.key);
    return now && (now !== one.state || now !== then) ? [{ ...one, now, then }] : [];
  });
  const gone = before.causes.filter((cause) => !last.causes.includes(cause));
  const fresh = last.causes.filter((cause) => !before.causes.includes(cause));
  if (states.length + gone.length + fresh.length === 0) {
    return <p className="text-sm text-soft">No requirement and no cause would stand otherwise.</p>;
  }
  return (
    <ul className="space-y-0.5 text-sm leading-snug">
      {states.map((one) => (
        <li key={one.key}>
          <StateMark state={one.state} /> {one.title}: {STATES[one.now]} → {STATES[one.state]}
          {one.then !== one.state && `, at best ${STATES[one.then]}`}
        </li>
      ))}
      {gone.length > 0 && (
        <li>
          <span className="text-soft">{best ? "Gone at best:" : "Gone:"}</span> {gone.join("; ")}
        </li>
      )}
      {fresh.length > 0 && (
        <li>
          <span className="text-soft">New:</span> {fresh.join("; ")}
        </li>
      )}
    </ul>
  );
}
