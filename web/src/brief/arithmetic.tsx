// What the brief asks of the line and of the test, always in sight while it is written.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { type Model, post } from "../api/client";
import { Note } from "../shared/controls";
import { count, duration, fixed, pct } from "../shared/format";
import { ErlangCurve } from "./erlang-curve";

type Form = Model<"BriefForm">;
const PAUSE_MS = 250;

export function Arithmetic({ form }: { form: Form }) {
  const settled = useSettled(form);
  const named = { ...settled, name: settled.name || "New site" };
  const answer = useQuery({
    queryKey: ["arithmetic", named],
    queryFn: () => post("Arithmetic", "/api/arithmetic", named),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const found = answer.data;
  return (
    <aside aria-label="Arithmetic" className="sticky top-4 self-start border-l border-ink pl-6">
      <h2 className="text-lg">What this asks for</h2>
      {answer.error && (
        <div className="mt-3">
          <Note>{answer.error.message}</Note>
        </div>
      )}
      {found && !answer.error && <Found found={found} form={named} />}
    </aside>
  );
}

function Found({ found, form }: { found: Model<"Arithmetic">; form: Form }) {
  const { run } = found;
  return (
    <>
      <p className="mt-2 text-4xl leading-none font-semibold">
        {found.needed_calls}
        <span className="ml-2 text-base font-normal text-soft">calls at once</span>
      </p>
      {found.need ? (
        <div className="mt-3">
          <ErlangCurve need={found.need} accepted={form.blocking_pct ?? 1} />
        </div>
      ) : (
        <p className="mt-1 text-sm text-soft">as stated</p>
      )}
      <table className="mt-4 w-full text-sm">
        <thead>
          <tr className="text-right text-soft [&>th]:pb-0.5 [&>th]:font-normal">
            <th className="text-left">kbit/s each way</th>
            <th>at IP</th>
            <th>on the wire</th>
          </tr>
        </thead>
        <tbody>
          {found.loads.map((load) => (
            <tr key={load.title} className="hair border-t text-right [&>td]:py-1">
              <td className="pr-2 text-left">
                {load.streams} × {load.title}
              </td>
              <td>{count(Math.round(load.ip_kbps))}</td>
              <td>{count(Math.round(load.wire_kbps))}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <LineShare name="of the line up" share={found.share_up_pct} ceiling={form.ceiling_pct ?? null} />
      <LineShare name="of the line down" share={found.share_down_pct} ceiling={form.ceiling_pct ?? null} />
      <p className="mt-4 leading-snug">
        To prove it: {run.calls_at_once} calls of {run.call_s} s, {run.rounds} times over.{" "}
        <span className="font-semibold">
          {duration(run.run_s)}, {count(run.calls)} calls.
        </span>{" "}
        <span className="text-soft">
          If none is bad they claim {fixed(run.claims_pct, 1)} %, {form.targets?.required_share_pct} % is
          asked{run.enough ? "." : ": not enough."}
        </span>
      </p>
      {found.remarks.length > 0 && (
        <ul className="mt-4 space-y-2">
          {found.remarks.map((remark) => (
            <li key={remark} className="border-l-4 border-ink bg-raised py-1.5 pl-3 text-sm leading-snug">
              {remark}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

/** A share of the line as a length of it, with the ceiling as a mark. */
function LineShare(props: { name: string; share: number | null; ceiling: number | null }) {
  const { name, share, ceiling } = props;
  return (
    <div className="mt-3">
      <p className="flex justify-between text-sm">
        <span>
          <span className="font-semibold">{pct(share, share !== null && share < 10 ? 1 : 0)}</span> {name}
        </span>
        {ceiling !== null && <span className="text-soft">tests up to {ceiling} %</span>}
      </p>
      <div className="relative mt-1 h-2.5 border border-ink bg-raised" aria-hidden="true">
        <div
          className="h-full"
          style={{ width: `${Math.min(100, share ?? 0)}%`, background: depthOf(share ?? 0) }}
        />
        {ceiling !== null && (
          <span className="absolute -top-1 -bottom-1 w-px bg-ink" style={{ left: `${ceiling}%` }} />
        )}
      </div>
    </div>
  );
}

/** Trouble begins where little of the line is left. */
function depthOf(share: number): string {
  const step = share > 100 ? 5 : share > 90 ? 4 : share > 75 ? 3 : share > 50 ? 2 : 1;
  return `var(--depth-${step})`;
}

function useSettled(form: Form): Form {
  const [settled, setSettled] = useState(form);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(form), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [form]);
  return settled;
}
