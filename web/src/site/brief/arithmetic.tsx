// What the brief asks of the line and of the test, always in sight while it is written.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type Model, post } from "../../api/client";
import { ErlangCurve } from "../../charts/erlang-curve";
import { LineShare } from "../../charts/line-share";
import { Note } from "../../ui/controls";
import { count, DASH, duration, withUnit } from "../../ui/format";
import { useSettled } from "../../ui/settled";

type Form = Model<"BriefForm">;

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
      <h2 className="text-lg">Capacity needed</h2>
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
        <span className="ml-2 text-base font-normal text-soft">concurrent calls</span>
      </p>
      {found.need ? (
        <div className="mt-3">
          <ErlangCurve need={found.need} accepted={form.blocking_pct ?? 1} />
        </div>
      ) : (
        <p className="mt-1 text-sm text-soft">entered directly</p>
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
      <LineShare name="of the upload rate" share={found.share_up_pct} ceiling={form.ceiling_pct ?? null} />
      <LineShare
        name="of the download rate"
        share={found.share_down_pct}
        ceiling={form.ceiling_pct ?? null}
      />
      <p className="mt-4 leading-snug">
        To show it: {run.calls_at_once} concurrent calls of {withUnit(run.call_s, "s")} in each of{" "}
        <span className="font-semibold">
          {run.moments} ten-minute moments: {duration(run.load_s)} of load.
        </span>{" "}
        <span className="text-soft">
          With no bad call this shows at least {withUnit(form.targets?.required_share_pct ?? DASH, "%")}{" "}
          (95&nbsp;% confidence). Calls within the same ten minutes count as one observation of the network.
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
