// A site watched for days: what each leg added, when it would have spoiled calls, what comes back, and the minutes of it.
import { useCallback, useMemo, useRef } from "react";
import { get, type Model, put, remove } from "../../api/client";
import { LEG_MEASURES, LegSheet, PLACE_MEASURES, SERVICE_MEASURES } from "../../charts/leg-sheet";
import { useAddress } from "../../ui/address";
import { Note, Section } from "../../ui/controls";
import { DocumentFile } from "../../ui/document-file";
import { count, dateTime, ms, pct, plural } from "../../ui/format";
import { useLivePage } from "../../ui/live-page";
import { Pending, Trail } from "../../ui/screen";
import { Wide } from "../../ui/wide";
import { BenchMenu } from "../bench-menu";
import { useNotes } from "../judge/notes";
import { Bench } from "./bench";
import { DayParts } from "./day-parts";
import { Episodes } from "./episodes";
import { WatchProbes } from "./watch-probes";

type Page = Model<"WatchPage">;
type Watched = Model<"Watched">;

const CELL_US = 600e6;
export function WatchScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const chosen = search.get("probe") ?? "0";
  const days = search.get("days") ?? "7";
  const shown = search.get("of");
  const measure = measureOf(search);
  const path = `/api/sites/${id}/watch?probe=${chosen}&days=${days}&measure=${measure}${shown && shown !== SERVICES ? `&place=${shown}` : ""}`;
  const { page, problem, change } = useLivePage("WatchPage", path, () => false);
  if (!page.data) return <Pending what="the watch" error={page.error} />;
  const { data } = page;
  const read = () => change(get("WatchPage", path));
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
        ]}
        title="Watch"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Watch {data.site_name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Gateway, provider’s edge, outside addresses and far end are sampled at the same instants, so that each
        leg can be told from the next. What would have spoiled a call is told as an episode.
      </p>
      <BenchMenu slug={id} />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <WatchProbes
        page={data}
        shown={data.watched?.probe_id ?? null}
        onShow={(probe) => set("probe", String(probe))}
        onBegin={async (probe, form) => {
          await put("PlacePage", `/api/sites/${id}/probes/${probe}/watch`, form);
          await read();
        }}
        onEnd={async (probe) => {
          await change(
            remove("PlacePage", `/api/sites/${id}/probes/${probe}/watch`).then(() => get("WatchPage", path)),
          );
        }}
      />
      {data.watched ? (
        <Shown slug={id} page={data} watched={data.watched} />
      ) : (
        <p className="mt-8">
          No samples have been read yet. Start a watch: the day sheet appears here a minute later and fills by
          itself.
        </p>
      )}
    </>
  );
}

const SERVICES = "services";

/** What the day sheet can show of it, and what it shows at first. */
function measuresOf(of: string | null): [typeof LEG_MEASURES, string] {
  if (!of) return [LEG_MEASURES, "mos"];
  return of === SERVICES ? [SERVICE_MEASURES, "unanswered"] : [PLACE_MEASURES, "delay"];
}

function measureOf(search: URLSearchParams): string {
  const [measures, usual] = measuresOf(search.get("of"));
  const asked = search.get("measure") ?? "";
  return asked in measures ? asked : usual;
}

function Shown({ slug, page, watched }: { slug: string; page: Page; watched: Watched }) {
  const [search, set, setAll] = useAddress();
  const { reading } = watched;
  const notes = useNotes(slug);
  const place = search.get("of");
  const [measures] = measuresOf(place);
  const measure = measureOf(search);
  const openAt = (from: number, until: number) => {
    setAll({ from: String(Math.round(from)), until: String(Math.round(until)) });
    document.getElementById("bench")?.scrollIntoView({ block: "start" });
  };
  const latest = useRef(openAt);
  latest.current = openAt;
  const open = useCallback((from: number, until: number) => latest.current(from, until), []);
  // Thousands of cells, which a step on the minute bench has nothing to do with: drawn anew only where they change.
  const sheet = useMemo(
    () => (
      <LegSheet
        days={watched.days}
        hours={page}
        measure={(measures[measure] ?? LEG_MEASURES.mos) as (typeof LEG_MEASURES)[string]}
        recurrences={reading.recurrences}
        blackouts={page.blackouts}
        loadsUs={page.loads_us}
        remedies={page.remedies.filter((one) => one.at_us >= reading.from_us)}
        notes={notes.filter((one) => one.until_us >= reading.from_us)}
        zone={page.time_zone}
        onOpen={(at) => open(at, at + CELL_US)}
      />
    ),
    [page, watched.days, reading, notes, measures, measure, open],
  );
  const below = useMemo(
    () => (
      <>
        <Episodes
          page={page}
          episodes={watched.episodes}
          total={reading.episodes.length}
          onOpen={(one) => {
            const around = Math.max(60e6, (one.until_us - one.from_us) * 0.5);
            open(one.from_us - around, one.until_us + around);
          }}
        />
        <DayParts places={watched.compared} zone={page.time_zone} onOpen={open} />
      </>
    ),
    [page, watched, reading, open],
  );
  const from = Number(search.get("from")) || reading.until_us - 3600e6;
  const until = Number(search.get("until")) || reading.until_us;
  return (
    <>
      <Section
        title="By day"
        aside={`${count(reading.rounds)} ${reading.rounds === 1 ? "round" : "rounds"} from ${dateTime(reading.from_us, page.time_zone)} to ${dateTime(reading.until_us, page.time_zone)}, ${page.time_zone}`}
      >
        <div className="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm">
          <fieldset className="flex flex-wrap gap-5">
            <legend className="sr-only">Measure</legend>
            {Object.entries(measures).map(([name, one]) => (
              <label key={name} className="flex items-center gap-1.5">
                <input
                  type="radio"
                  name="leg-measure"
                  className="accent-[var(--ink)]"
                  checked={measure === name}
                  onChange={() => set("measure", name)}
                />
                {one.words}
              </label>
            ))}
          </fieldset>
          <label className="flex items-center gap-1.5">
            Of
            <select
              className="max-w-64 border border-soft bg-raised px-1.5 py-0.5"
              value={place ?? ""}
              onChange={(event) => setAll({ of: event.target.value, measure: "" })}
            >
              <option value="">each leg</option>
              {reading.places.map((one) => (
                <option key={one.number} value={one.number}>
                  {ROLES[one.role]} {one.name}
                </option>
              ))}
              {watched.asks_services && <option value={SERVICES}>names and services</option>}
            </select>
          </label>
          <label className="flex items-center gap-1.5">
            Days
            <select
              className="border border-soft bg-raised px-1.5 py-0.5"
              value={search.get("days") ?? "7"}
              onChange={(event) => set("days", event.target.value === "7" ? "" : event.target.value)}
            >
              {["7", "14", "35", "92"].map((n) => (
                <option key={n}>{n}</option>
              ))}
            </select>
          </label>
        </div>
        {sheet}
        <Says slug={slug} watched={watched} />
      </Section>
      <Bench
        slug={slug}
        page={page}
        watched={watched}
        span={{ from, until }}
        notes={notes}
        onSpan={(s) => openAt(s.from, s.until)}
      />
      {below}
      <Usual reading={reading} />
    </>
  );
}

function Says({ slug, watched }: { slug: string; watched: Watched }) {
  const { reading } = watched;
  if (reading.findings.length === 0)
    return (
      <p className="mt-2 text-lg">
        Nothing in these days would have spoiled a call
        {reading.gaps.length > 0 &&
          `, as far as was sampled: there ${reading.gaps.length === 1 ? "is" : "are"} ${plural(reading.gaps.length, "gap")}`}
        .
      </p>
    );
  return (
    <ol className="mt-3">
      {reading.findings.map((one, fault) => (
        <li
          key={`${one.key}${one.leg}`}
          className="hair grid gap-x-8 gap-y-1 border-t py-2.5 lg:grid-cols-[1fr_360px]"
        >
          <div>
            <h3 className="text-lg leading-snug">{one.title}</h3>
            <p className="leading-snug">{one.says}</p>
          </div>
          <div className="text-sm leading-snug">
            <p>
              <span className="text-soft">What to do, {one.who}: </span>
              {one.remedy}
            </p>
            {one.episodes.length > 0 && (
              <div className="mt-2 flex flex-wrap items-center gap-3">
                <a
                  className="underline underline-offset-3"
                  href={`/api/sites/${slug}/watch/evidence.html?probe=${watched.probe_id}&fault=${fault}`}
                >
                  Evidence sheet
                </a>
                <a
                  className="underline underline-offset-3"
                  href={`/api/sites/${slug}/watch/evidence.csv?probe=${watched.probe_id}&fault=${fault}`}
                  download
                >
                  All its times (CSV)
                </a>
                <DocumentFile
                  path={`/api/sites/${slug}/watch/evidence/pdf`}
                  body={{ probe: watched.probe_id, fault }}
                  words="Evidence sheet, PDF"
                />
              </div>
            )}
          </div>
        </li>
      ))}
    </ol>
  );
}

const ROLES = {
  gateway: "Gateway",
  edge: "Provider’s edge",
  outside: "Outside",
  "far-end": "Far end",
} as const;

function Usual({ reading }: { reading: Watched["reading"] }) {
  return (
    <Section title="What is usual" aside="over all that was read">
      <Wide label="What is usual">
        <table className="w-full [&_td]:pr-4 [&_th]:pr-4 [&_th]:text-left">
          <thead>
            <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
              <th>Place</th>
              <th>Sampled</th>
              <th>Lost</th>
              <th>Least</th>
              <th>Median</th>
              <th>95th percentile</th>
              <th>Longest</th>
              <th>Baseline</th>
            </tr>
          </thead>
          <tbody>
            {reading.places.map((one) => (
              <tr key={one.number} className="hair border-t [&>*]:py-1.5">
                <th className="font-normal">
                  {ROLES[one.role]} <span className="text-soft">{one.name}</span>
                </th>
                <td>{count(one.sent)}</td>
                <td>{one.sent ? pct((100 * one.lost) / one.sent, 2) : "–"}</td>
                <td>{ms(one.min_ms, 1)}</td>
                <td>{ms(one.p50_ms, 1)}</td>
                <td>{ms(one.p95_ms, 1)}</td>
                <td>{ms(one.max_ms)}</td>
                <td>
                  by {one.baseline_by}, {plural(one.baseline_days, "day")}
                  {one.forming && <span className="text-soft"> (forming)</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {reading.not_faults.map((one) => (
        <p key={one.says} className="mt-2 max-w-4xl text-sm">
          <span className="font-semibold">No fault: </span>
          {one.says}
        </p>
      ))}
    </Section>
  );
}
