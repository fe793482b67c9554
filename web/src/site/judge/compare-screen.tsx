// Two runs side by side: the same axes, every difference with its uncertainty.
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { get, type Model } from "../../api/client";
import { across, along, axisOf } from "../../charts/strip-geometry";
import { LinkButton, Note, Section } from "../../ui/controls";
import { DASH, dateTime, fixed } from "../../ui/format";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";

type Page = Model<"ComparePage">;
type Measure = Model<"ComparedMeasure">;

export function CompareScreen() {
  const [search] = useSearchParams();
  const first = search.get("first") ?? "";
  const second = search.get("second") ?? "";
  const answer = useQuery({
    queryKey: ["compare", first, second],
    queryFn: () => get("ComparePage", `/api/compare?first=${first}&second=${second}`),
    retry: false,
  });
  if (!answer.data) return <Pending what="the two runs" error={answer.error} />;
  const page = answer.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/sites/${page.first.site_slug}`, page.first.site_name],
        ]}
        title="Two runs side by side"
      />
      <div className="mt-2 flex flex-wrap items-end justify-between">
        <h1 className="text-3xl tracking-tight">Two runs side by side</h1>
        <LinkButton to={`/compare?first=${second}&second=${first}`}>Swap A and B</LinkButton>
      </div>
      <div className="mt-5 grid sm:grid-cols-2 gap-x-12">
        <RunHead name="A" run={page.first} />
        <RunHead name="B" run={page.second} />
      </div>
      <p role="status" className="mt-6 text-xl font-semibold">
        {shareWords(page)}
      </p>
      <p className="mt-1 text-soft">
        {page.differs.length > 0
          ? `Placed differently: ${page.differs.join("; ")}.`
          : "Placed alike: what differs is the network, or the hour."}
      </p>
      {page.cautions.map((caution) => (
        <div key={caution} className="mt-3">
          <Note>{caution}</Note>
        </div>
      ))}
      <Section title="Upload: probe to far end" aside={<Key />}>
        <Measures measures={page.up} />
      </Section>
      <Section title="Download: far end to probe" aside={<Key />}>
        <Measures measures={page.down} />
      </Section>
    </>
  );
}

function RunHead({ name, run }: { name: string; run: Page["first"] }) {
  return (
    <div className="rule pt-2">
      <p className="flex flex-wrap items-baseline gap-3">
        <span className="text-2xl font-semibold">{name}</span>
        <Link to={`/runs/${run.id}`} className="underline underline-offset-3">
          {run.site_name}, {dateTime(run.started_us, run.time_zone)}
        </Link>
      </p>
      <p className="text-sm text-soft">{run.words}</p>
      <p className="mt-1">
        {run.good} of {run.calls} calls acceptable
      </p>
    </div>
  );
}

function shareWords({ share }: Page): string {
  if (share.change === null || share.low === null || share.high === null)
    return "There are no calls to compare.";
  const points = `${Math.abs(share.change).toFixed(1)} points`;
  const interval = `95 %: ${signed(share.low, 1)} to ${signed(share.high, 1)}`;
  if (share.change === 0) return `The same share of calls is acceptable (${interval} points).`;
  const word = share.change > 0 ? "more" : "fewer";
  return share.sure
    ? `In B ${points} ${word} calls are acceptable: significant (${interval}).`
    : `In B ${points} ${word} calls are acceptable: not significant (${interval}).`;
}

function Key() {
  return (
    <span className="flex flex-wrap items-center gap-4">
      <span>▪ A, above</span>
      <span>○ B, below</span>
      <span>line: mean over moments</span>
    </span>
  );
}

function Measures({ measures }: { measures: Measure[] }) {
  return (
    <Wide label="Measures of both runs">
      <table className="w-full table-fixed">
        <thead>
          <tr className="text-left text-sm text-soft [&>th]:pr-5 [&>th]:font-normal">
            <th>Mean over moments</th>
            <th className="w-20 text-right">A</th>
            <th className="w-20 text-right">B</th>
            <th className="w-[460px]">each call</th>
            <th className="w-64">Change</th>
          </tr>
        </thead>
        <tbody>
          {measures.map((measure) => (
            <tr key={measure.key} className="hair border-t [&>td]:py-1 [&>td]:pr-5">
              <td>
                {measure.title} <span className="text-sm text-soft">{measure.unit}</span>
              </td>
              <td className="text-right">{fixed(measure.difference.first, measure.places)}</td>
              <td className="text-right">{fixed(measure.difference.second, measure.places)}</td>
              <td>
                <Dots measure={measure} />
              </td>
              <td className="text-sm leading-snug">{changeWords(measure)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

const WIDTH = 440;
const ROW = 15;

function Dots({ measure }: { measure: Measure }) {
  const { first_values: a, second_values: b, difference } = measure;
  if (a.length + b.length === 0) return <span>{DASH}</span>;
  const axis = axisOf(a, b, measure.places === 2 ? 0.02 : 0.2);
  const mean = (value: number | null, top: number) =>
    value === null ? null : (
      <path d={`M${along(axis, value, WIDTH)} ${top}v${ROW + 2}`} stroke="var(--ink)" strokeWidth={1.8} />
    );
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${2 * ROW + 8}`}
      className="w-full"
      role="img"
      aria-label={`${measure.title}: A from ${range(a, measure)}, B from ${range(b, measure)}`}
    >
      <path d={`M0 ${ROW + 4}H${WIDTH}`} stroke="var(--hair)" />
      {a.map((value, i) => (
        <rect
          key={i}
          x={along(axis, value, WIDTH) - 1.6}
          y={1 + across(i, ROW - 4)}
          width={3.2}
          height={3.2}
          fill="var(--depth-4)"
        />
      ))}
      {b.map((value, i) => (
        <circle
          key={i}
          cx={along(axis, value, WIDTH)}
          cy={ROW + 7 + across(i, ROW - 4)}
          r={1.8}
          fill="none"
          stroke="var(--depth-4)"
        />
      ))}
      {mean(difference.first, 0)}
      {mean(difference.second, ROW + 5)}
    </svg>
  );
}

function range(values: number[], measure: Measure): string {
  if (values.length === 0) return "nothing";
  return `${Math.min(...values).toFixed(measure.places)} to ${Math.max(...values).toFixed(measure.places)}`;
}

function changeWords({ difference, places, higher_is_better }: Measure): string {
  const { change, low, high, sure } = difference;
  if (change === null) return DASH;
  if (low === null || high === null) return `${signed(change, places)}; too few moments for an interval`;
  if (change === 0) return "the same";
  const interval = `${signed(change, places)} (${signed(low, places)} to ${signed(high, places)})`;
  if (!sure) return `${interval}, not significant`;
  return `${interval}, ${change > 0 === higher_is_better ? "better" : "worse"}`;
}

function signed(value: number, places: number): string {
  const text = Math.abs(value).toFixed(places);
  return Number(text) === 0 ? text : `${value < 0 ? "−" : "+"}${text}`;
}
