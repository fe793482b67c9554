// One carrying-out of a plan: the step that runs now, live, and the staircase as it forms.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Model, post } from "../../api/client";
import { Staircase } from "../../charts/staircase";
import { LiveRun } from "../../run/live-run";
import { Button, Note, Section } from "../../ui/controls";
import { dateTime, duration, plural, withUnit } from "../../ui/format";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";

type Page = Model<"SeriesPage">;

export function SeriesScreen({ id }: { id: string }) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const page = useQuery({
    queryKey: ["series", id],
    queryFn: () => get("SeriesPage", `/api/series/${id}`),
    refetchInterval: (query) => {
      const data = query.state.data;
      // A stopped test's last run still ends and brings its result.
      return isOpen(data) || data?.current_run_id != null ? 1000 : false;
    },
  });
  if (!page.data) return <Pending what="the series" error={page.error} />;
  const series = page.data;
  const stop = async () => {
    try {
      queries.setQueryData(["series", id], await post("SeriesPage", `/api/series/${id}/stop`, {}));
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${series.engagement_slug}`, series.engagement_name],
          [`/sites/${series.site_slug}`, series.site_name],
          [`/sites/${series.site_slug}/load`, "Load"],
        ]}
        title={series.name}
      />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">{series.name}</h1>
          <p className="mt-1 text-soft">
            {series.load !== series.name && `${series.load} · `}
            {dateTime(series.began_us ?? series.due_us, series.time_zone)} · {duration(series.run_s)}
          </p>
        </div>
        {isOpen(series) && <Button onClick={stop}>Stop</Button>}
      </div>
      {problem && <Note>{problem}</Note>}
      <p role="status" className="mt-6 text-xl font-semibold">
        {headline(series)}
      </p>
      {series.words && <p className="mt-1">{series.words}</p>}
      <Section
        title="Staircase"
        aside={`share of acceptable calls, with its 95\u00a0% interval: both directions at ${series.acceptable_words}`}
      >
        <Staircase page={series} />
      </Section>
      {series.current_run_id !== null && <Current key={series.current_run_id} id={series.current_run_id} />}
      <Section title="Steps">
        <Steps page={series} />
      </Section>
    </>
  );
}

function isOpen(page: Page | undefined): boolean {
  return page?.state === "waiting" || page?.state === "running";
}

function headline(page: Page): string {
  const { held_calls: held, shown_calls: shown, needed_calls: needed } = page;
  if (page.state === "waiting") return "Waiting for the probe.";
  if (page.state === "missed") return "It did not start.";
  const step = page.steps.find((one) => one.state === "running");
  if (page.state === "running" && step) return `${step.calls_at_once} concurrent calls now.`;
  if (page.state === "running") return "Between two steps.";
  if (held === null) return `No step counts: its runs failed or were invalid. ${needed} needed.`;
  const all = page.steps.at(-1)?.calls_at_once === held;
  const proof = shown === null ? "none shown at 95\u00a0% confidence by this test alone" : `${shown} shown`;
  return `${plural(held, "concurrent call")} passed${all ? ", as many as were tried" : ""}; ${proof}. ${needed} needed.`;
}

function Current({ id }: { id: number }) {
  const run = useQuery({
    queryKey: ["run", String(id)],
    queryFn: () => get("RunPage", `/api/runs/${id}`),
    refetchInterval: 1000,
  });
  return run.data ? <LiveRun run={run.data} /> : null;
}

function Steps({ page }: { page: Page }) {
  return (
    <Wide label="Steps">
      <table className="w-full">
        <thead>
          <tr className="text-left text-sm text-soft [&>th]:pr-6 [&>th]:font-normal">
            <th>Concurrent calls</th>
            <th>Acceptable</th>
            <th>At 95&nbsp;% confidence</th>
            <th>Moments</th>
            <th>Result</th>
            {page.steps.some((step) => step.streams > 0) && <th>Video streams good</th>}
            <th>Runs</th>
          </tr>
        </thead>
        <tbody>
          {page.steps.map((step) => (
            <tr key={step.calls_at_once} className="hair border-t [&>td]:py-1.5 [&>td]:pr-6">
              <td className="font-semibold">{step.calls_at_once}</td>
              <td>
                {step.pct === null ? "–" : `${step.good} of ${step.calls}`}
                {step.forming_good !== null && (
                  <span className="text-soft">
                    {" "}
                    · so far {step.forming_good} of {step.forming_calls} now
                  </span>
                )}
              </td>
              <td>
                {step.pct === null
                  ? "–"
                  : `${step.low_pct.toFixed(1)} to ${withUnit(step.high_pct.toFixed(1), "%")}`}
              </td>
              <td>{step.moments || "–"}</td>
              <td>{verdict(step)}</td>
              {page.steps.some((one) => one.streams > 0) && (
                <td>{step.streams === 0 ? "–" : `${step.good_streams} of ${step.streams}`}</td>
              )}
              <td>
                {step.run_ids.map((run) => (
                  <Link key={run} to={`/runs/${run}`} className="mr-3 underline underline-offset-3">
                    {run}
                  </Link>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function verdict(step: Page["steps"][number]): string {
  if (step.forming_good !== null && step.pct === null) return "forming";
  if (step.pct === null) return step.state;
  if (step.shows === "shown not") return "fails (95\u00a0% confidence)";
  if (step.shows === "shown") return "shown (95\u00a0% confidence)";
  const more = `${step.more_moments} more moments without a bad call for 95\u00a0% confidence`;
  return step.passes ? `passing; ${more}` : `failing as observed; ${more}`;
}
