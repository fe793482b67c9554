// What a plan costs and yields, and what speaks against it, with the nearest plan that works one press away.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type Model, post } from "../../api/client";
import { LineShare } from "../../charts/line-share";
import { Button, Note } from "../../ui/controls";
import { count, dateTime, duration, pct, plural, withUnit } from "../../ui/format";
import { useSettled } from "../../ui/settled";

type Form = Model<"PlanForm">;

interface Props {
  slug: string;
  form: Form;
  timeZone: string;
  onFix: (form: Form) => void;
}

export function PlanAside({ slug, form, timeZone, onFix }: Props) {
  const settled = useSettled(form);
  const answer = useQuery({
    queryKey: ["plan-check", slug, settled],
    queryFn: () => post("PlanCheck", `/api/sites/${slug}/plans/check`, settled),
    placeholderData: keepPreviousData,
    retry: false,
    refetchInterval: 5000,
  });
  const found = answer.data;
  return (
    <aside aria-label="What the plan takes" className="sticky top-4 self-start border-l border-ink pl-6">
      <h2 className="text-lg">What it takes</h2>
      {answer.error && (
        <div className="mt-3">
          <Note>{answer.error.message}</Note>
        </div>
      )}
      {found && !answer.error && (
        <>
          {found.problems.map((problem) => (
            <div
              key={problem.words}
              role="alert"
              className="mt-3 border-l-4 border-act bg-raised py-2 pr-2 pl-3"
            >
              <p className="leading-snug">{problem.words}</p>
              {problem.fix && (
                <p className="mt-2">
                  <Button act onClick={() => problem.fix && onFix(problem.fix)}>
                    {capital(problem.fix_words ?? "")}
                  </Button>
                </p>
              )}
            </div>
          ))}
          <Steps steps={found.takes.steps} ceiling={found.takes.ceiling_calls} />
          <p className="mt-3 text-2xl leading-tight font-semibold">
            {duration(found.takes.run_s)}
            <span className="ml-2 text-base font-normal text-soft">
              {count(found.takes.calls)} calls, {count(found.takes.packets)} packets
            </span>
          </p>
          <p className="mt-1 text-sm text-soft">
            at the top {withUnit(count(Math.round(found.takes.each_way_ip_kbps)), "kbit/s")} each way on the
            line, {count(Math.round(found.takes.each_way_wire_kbps))} on the wire
          </p>
          <LineShare name="of the line up" share={found.takes.share_up_pct} ceiling={null} />
          <LineShare name="of the line down" share={found.takes.share_down_pct} ceiling={null} />
          <p className="mt-4 text-sm leading-snug">
            {plural(found.takes.moments, "ten-minute moment")}
            {form.when === "repeat" ? " a start: with no bad call one start" : ": with no bad call this"}{" "}
            shows at least {pct(found.takes.shows_pct, 1)} (95&nbsp;% confidence);{" "}
            {withUnit(found.takes.required_share_pct, "%")} required.
          </p>
          {found.takes.starts.length > 0 && form.when !== "now" && (
            <p className="mt-3 text-sm leading-snug">
              Starts {found.takes.starts.map((at) => dateTime(at, timeZone)).join(" · ")}
              {found.takes.starts.length > 4 && " …"}
            </p>
          )}
          {found.remarks.map((remark) => (
            <p key={remark} className="mt-3 text-sm leading-snug text-soft">
              {remark}
            </p>
          ))}
        </>
      )}
    </aside>
  );
}

/** The shape of the load: one post a step, with the ceiling over them. */
function Steps({ steps, ceiling }: { steps: number[]; ceiling: number | null }) {
  const most = Math.max(...steps, ceiling ?? 0);
  const width = 320;
  const height = 74;
  const each = width / steps.length;
  const y = (calls: number) => height - 4 - (calls / most) * (height - 22);
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="mt-4 w-full"
      role="img"
      aria-label={`Steps of ${steps.join(", ")} calls`}
    >
      {steps.map((calls, i) => (
        <rect
          key={calls}
          x={i * each + 0.5}
          y={y(calls)}
          width={Math.max(1, each - 1)}
          height={height - 4 - y(calls)}
          fill={ceiling !== null && calls > ceiling ? "var(--depth-4)" : "var(--depth-2)"}
        />
      ))}
      <path d={`M0 ${height - 3.5}H${width}`} stroke="var(--ink)" />
      {ceiling !== null && <path d={`M0 ${y(ceiling)}H${width}`} stroke="var(--ink)" strokeDasharray="3 3" />}
      <text
        x={width}
        y={y(steps.at(-1) ?? 1) - 4}
        textAnchor="end"
        className="fill-ink text-[12px] font-semibold"
      >
        {steps.at(-1)} calls
      </text>
      {steps.length > 1 && (
        <text x={2} y={y(steps[0] ?? 1) - 4} className="fill-soft text-[12px]">
          {steps[0]}
        </text>
      )}
    </svg>
  );
}

function capital(words: string): string {
  return words.charAt(0).toUpperCase() + words.slice(1);
}
