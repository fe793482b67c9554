// Filling the line: asked for with consent, followed while it is full, and what a busy line does to calls.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Model, post, put, remove } from "../../api/client";
import { holdsMarked } from "../../charts/fill-geometry";
import { LineFill } from "../../charts/line-fill";
import { useAddress } from "../../ui/address";
import { Button, Note, Section } from "../../ui/controls";
import { ago, DASH, dateTime, duration, fixed, megabits, pct, throughput, withUnit } from "../../ui/format";
import { underWay, useLivePage } from "../../ui/live-page";
import { calledBy } from "../../ui/reach";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";
import { BenchMenu } from "../bench-menu";
import { AskFill } from "./line-ask";
import { ruleWords } from "./rule";

type Page = Model<"FillPage">;
type Line = Model<"FillLine">;

const toCome = (line: Line) => underWay(line) || (line.state === "done" && !line.judged && line.words !== "");
const WAYS = { idle: "Idle", up: "Upload full", down: "Download full", both: "Both full" } as const;

export function LineScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const [changingId, setChangingId] = useState<number | null>(null);
  const path = `/api/sites/${id}/fills`;
  const { page, problem, change } = useLivePage("FillPage", path, (data) => data.fills.some(toCome));
  if (!page.data) return <Pending what="line fills" error={page.error} />;
  const { data } = page;
  const chosen = Number(search.get("fill") ?? 0);
  const shown = data.fills.find((one) => one.id === chosen) ?? data.fills[0];
  const changing = data.plans.find((one) => one.id === changingId);
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
          [`/sites/${id}/load`, "Load"],
        ]}
        title="Line filling"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Fill the line of {data.site_name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        TCP streams fill the line while a probe holds two calls on it, one marked EF and one without marking.
        What a busy line adds to delay, and whether marking helps, shows within a minute. A browser holds one
        call, without marking.
      </p>
      <BenchMenu slug={id} />
      <AskFill
        key={changing?.id ?? "new"}
        page={data}
        busy={data.fills.some(underWay)}
        planned={changing}
        onAsk={async (body) => {
          if (!changing) {
            set("fill", "");
            return change(post("FillPage", path, body));
          }
          const done = await change(put("FillPage", `/api/sites/${id}/fill-plans/${changing.id}`, body));
          if (done) setChangingId(null);
          return done;
        }}
        onLeave={() => setChangingId(null)}
      />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      {shown && (
        <Shown
          key={shown.id}
          slug={id}
          line={shown}
          page={data}
          onStop={() => change(post("FillPage", `${path}/${shown.id}/stop`, {}))}
        />
      )}
      {data.plans.length > 0 && (
        <Section title="Scheduled" aside="next first">
          <ul>
            {data.plans.map((one) => (
              <li key={one.id} className="hair flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b py-2">
                <span className="w-48 font-semibold">{dateTime(one.next_us, data.time_zone)}</span>
                <span className="grow leading-snug">
                  {`${one.ways.join(", ")}, ${duration(one.seconds)} each way`}
                  {one.recurs ? `, ${ruleWords(one.recurs)}` : ""}
                  <span className="block text-sm text-soft">
                    {one.probe} to {one.far_end}
                    {one.last_us !== null &&
                      `; last due ${dateTime(one.last_us, data.time_zone)}${one.last_words ? `, left out: ${one.last_words}` : ""}`}
                  </span>
                </span>
                <Button
                  onClick={() => {
                    setChangingId(one.id);
                    scrollTo({ top: 0 });
                  }}
                  aria-label={`Edit the line fills of ${dateTime(one.next_us, data.time_zone)}`}
                >
                  Edit
                </Button>
                <Button
                  onClick={() => change(remove("FillPage", `/api/sites/${id}/fill-plans/${one.id}`))}
                  aria-label={`Remove the line fills of ${dateTime(one.next_us, data.time_zone)}`}
                >
                  Remove
                </Button>
              </li>
            ))}
          </ul>
        </Section>
      )}
      {data.fills.length > 1 && (
        <Section title="All line fills" aside="newest first">
          <ul>
            {data.fills.map((one) => (
              <li key={one.id} className="hair grid gap-x-6 border-b py-2 lg:grid-cols-[200px_1fr]">
                <button
                  type="button"
                  aria-pressed={one.id === shown?.id}
                  className={`text-left underline underline-offset-3 ${one.id === shown?.id ? "font-semibold" : ""}`}
                  onClick={() => set("fill", String(one.id))}
                  title={ago(one.asked_us)}
                >
                  {dateTime(one.asked_us, data.time_zone)}
                </button>
                <p className="leading-snug">
                  {one.says.length > 0 ? one.says.join(" ") : one.words}
                  <span className="block text-sm text-soft">
                    {one.probe} to {calledBy(one.way, one.far_end)}, {duration(one.seconds)} each way
                  </span>
                </p>
              </li>
            ))}
          </ul>
        </Section>
      )}
    </>
  );
}

function Shown({ slug, line, page, onStop }: { slug: string; line: Line; page: Page; onStop: () => void }) {
  const detail = useQuery({
    queryKey: ["fill", slug, line.id, line.judged],
    queryFn: () => get("FillDetail", `/api/sites/${slug}/fills/${line.id}`),
    enabled: line.judged,
  });
  const filled = line.judged ? detail.data?.filled : null;
  return (
    <section className="mt-8" aria-label="What the fill showed">
      <div role="status" className="rule flex flex-wrap items-baseline gap-x-5 gap-y-1 pt-3">
        <p className="text-sm text-soft">
          {dateTime(line.asked_us, page.time_zone)}, {line.probe} to {calledBy(line.way, line.far_end)},{" "}
          {duration(line.seconds)} each way
          {line.ceiling_kbps > 0 && `, kept below ${megabits(line.ceiling_kbps)}`}
        </p>
        {!line.judged && <p className="font-semibold">{progress(line)}</p>}
        {underWay(line) && <Button onClick={onStop}>Stop</Button>}
      </div>
      {filled && <Findings filled={filled} />}
    </section>
  );
}

function progress(line: Line): string {
  const last = line.progress.at(-1);
  if (!underWay(line) || !last) return line.words;
  const rates = [
    last.up_kbps === null ? "" : `${megabits(Math.round(last.up_kbps))} up`,
    last.down_kbps === null ? "" : `${megabits(Math.round(last.down_kbps))} down`,
  ].filter(Boolean);
  return `${line.words} Done so far: ${line.progress.map((one) => WAYS[one.way].toLowerCase()).join(", ")}${rates.length > 0 ? ` (${rates.join(", ")})` : ""}.`;
}

function Findings({ filled }: { filled: Model<"LineFilled"> }) {
  return (
    <>
      {filled.says.map((says) => (
        <p key={says} className="mt-2 max-w-4xl text-lg leading-snug">
          {says}
        </p>
      ))}
      {filled.spoiled.length > 0 && (
        <div className="mt-3">
          <Note>Invalid, and not counted: {filled.spoiled.join(" ")}</Note>
        </div>
      )}
      <LineFill filled={filled} />
      <Figures filled={filled} />
      {filled.causes.map((cause) => (
        <div
          key={`${cause.key}-${cause.direction}`}
          className="mt-5 border-l-4 border-ink bg-raised py-2.5 pr-4 pl-4"
        >
          <h2 className="text-lg">{cause.title}</h2>
          <p className="mt-1 leading-snug">{cause.says}</p>
          <p className="mt-2 leading-snug">
            <span className="text-soft">What to do:</span> {cause.remedy}{" "}
            <span className="text-soft">Who acts: {cause.who}.</span>
          </p>
          <p className="mt-2 text-sm leading-snug text-soft">{cause.alternatives.join(" ")}</p>
        </div>
      ))}
    </>
  );
}

function Figures({ filled }: { filled: Model<"LineFilled"> }) {
  const marked = holdsMarked(filled.seconds);
  return (
    <Wide label="Figures of each phase">
      <table className="mt-5 w-full [&_td]:pr-4 [&_th]:pr-4 [&_th]:text-left">
        <thead>
          <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:align-bottom [&>th]:font-normal">
            <th>Line</th>
            <th>Direction</th>
            <th>Throughput</th>
            <th>Round trip, median</th>
            <th>Delay added, median</th>
            <th>95th percentile</th>
            <th>Loss</th>
            <th>{marked ? "MOS unmarked" : "MOS"}</th>
            {marked && <th>MOS marked</th>}
          </tr>
        </thead>
        <tbody>
          {filled.phases.flatMap((phase) =>
            (["up", "down"] as const)
              .filter((side) => phase.way === "idle" || phase.way === "both" || phase.way === side)
              .map((side, row) => {
                const figures = phase[side];
                return (
                  <tr key={`${phase.way}-${side}`} className="hair border-t [&>*]:py-1.5">
                    <th className="font-semibold">{row === 0 ? WAYS[phase.way] : ""}</th>
                    <td>{side === "up" ? "upload" : "download"}</td>
                    <td>{throughput(figures.throughput_kbps)}</td>
                    <td>{row === 0 ? unit(phase.rtt_p50_ms, "ms") : ""}</td>
                    <td>{unit(figures.delay_added_p50_ms, "ms")}</td>
                    <td>{unit(figures.delay_added_p95_ms, "ms")}</td>
                    <td>{pct(figures.loss_pct)}</td>
                    <td>{fixed(figures.mos, 2)}</td>
                    {marked && <td>{fixed(figures.mos_marked, 2)}</td>}
                  </tr>
                );
              }),
          )}
        </tbody>
      </table>
      <p className="mt-2 text-sm text-soft">
        Delay is one way, of {marked ? "the call without marking" : "the call"}, above its median on the idle
        line. {congestion(filled)}
        The streams moved {withUnit((filled.moved_bytes / 1e6).toFixed(1), "MB")}.
      </p>
    </Wide>
  );
}

function congestion(filled: Model<"LineFilled">): string {
  const names = filled.phases.flatMap((one) => [one.up.congestion, one.down.congestion]).filter(Boolean);
  return names.length > 0 ? `The line was filled by TCP with ${[...new Set(names)].join(" and ")}. ` : "";
}

function unit(value: number | null, name: string): string {
  if (value === null) return DASH;
  return withUnit(Math.abs(value) < 10 ? value.toFixed(1) : value.toFixed(0), name);
}
