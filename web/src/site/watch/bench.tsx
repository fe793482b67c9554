// The minute bench with its controls: where it stands, how long a span it shows, and what was noted of it.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get, type Model } from "../../api/client";
import { moved, type Span, zoomed } from "../../charts/bench-geometry";
import { BenchFigures, MinuteBench, NORMAL_US } from "../../charts/minute-bench";
import { Button, FileLink, Note, Section } from "../../ui/controls";
import { dateTime, plural } from "../../ui/format";
import { Notes, type Numbered } from "../judge/notes";

type Page = Model<"WatchPage">;
type Watched = Model<"Watched">;

const LENGTHS = [
  ["1 min", 60e6],
  ["10 min", 600e6],
  ["1 h", 3600e6],
  ["6 h", 6 * 3600e6],
  ["1 day", 86_400e6],
  ["7 days", 7 * 86_400e6],
] as const;

export function Bench(props: {
  slug: string;
  page: Page;
  watched: Watched;
  span: Span;
  notes: Numbered[];
  onSpan: (span: Span) => void;
}) {
  const { slug, page, watched, span, notes, onSpan } = props;
  const within = notes.filter((one) => one.until_us >= span.from && one.from_us <= span.until);
  const path = `/api/sites/${slug}/watch/bench?probe=${watched.probe_id}&from_us=${Math.max(0, Math.round(span.from))}&until_us=${Math.round(span.until)}`;
  const { data, error } = useQuery({
    queryKey: ["bench", path],
    queryFn: () => get("MinuteBenchPage", path),
    placeholderData: keepPreviousData,
  });
  const length = span.until - span.from;
  // What was read may be a little behind what came in since.
  const came = page.probes.find((one) => one.id === watched.probe_id)?.watch?.last_us ?? 0;
  const newest = Math.max(came, watched.reading.until_us);
  return (
    <Section
      id="bench"
      title="Minute bench"
      aside={`${dateTime(span.from, page.time_zone)} to ${dateTime(span.until, page.time_zone)}${data ? `, ${STEP_WORDS[data.bench.step]}` : ""}`}
    >
      {/* biome-ignore lint/a11y/noStaticElementInteractions: keys that its buttons offer as well */}
      <div
        onKeyDown={(event) => {
          if (event.key === "ArrowLeft") onSpan(moved(span, -0.5, newest));
          else if (event.key === "ArrowRight") onSpan(moved(span, 0.5, newest));
          else return;
          event.preventDefault();
        }}
      >
        <div className="mb-3 flex flex-wrap items-center gap-2">
          <Button onClick={() => onSpan(moved(span, -0.5, newest))}>Earlier</Button>
          <Button disabled={span.until >= newest} onClick={() => onSpan(moved(span, 0.5, newest))}>
            Later
          </Button>
          <span className="ml-2 text-sm text-soft">Show</span>
          {LENGTHS.map(([words, us]) => (
            <button
              key={words}
              type="button"
              aria-pressed={Math.abs(length - us) < us / 100}
              className={`px-1.5 text-sm underline underline-offset-3 ${Math.abs(length - us) < us / 100 ? "font-semibold" : ""}`}
              onClick={() => onSpan(zoomed(span, us, newest))}
            >
              {words}
            </button>
          ))}
        </div>
        {error && <Note>{error.message}</Note>}
        {data && data.bench.at_us.length === 0 && <p>There are no samples in this time.</p>}
        {data && data.bench.at_us.length > 0 && (
          <>
            <MinuteBench
              bench={data.bench}
              zone={page.time_zone}
              marks={watched.reading.episodes}
              notes={within}
              places={watched.reading.places}
            />
            <BenchFigures bench={data.bench} />
            <p className="mt-1 text-sm text-soft">
              Round trips hang from each line, to the depth that is written at its foot
              {data.bench.step !== "round" && "; the shade is from the least to the longest of each step"}
              {data.bench.step === "hour" && ", and the line at the median of its ten-minute medians"}. A mark
              above the line is loss, as tall as its share. Grey: an episode.
              {within.length > 0 && " Bracketed at the top: a note, by its number."}
              {length <= NORMAL_US && ` Dotted: normal for the hour, ${normalWords(watched.reading.places)}.`}{" "}
              Where a line pauses nothing was sampled.
            </p>
            {length <= LENGTHS[4][1] && (
              <p className="mt-2">
                <FileLink href={path.replace("/bench?", "/samples.csv?")}>
                  Download these samples (CSV)
                </FileLink>
              </p>
            )}
          </>
        )}
      </div>
      <h3 className="mt-5 mb-1 text-lg">Notes</h3>
      <Notes
        slug={slug}
        zone={page.time_zone}
        notes={notes}
        pin={{ from_us: Math.max(0, Math.round(span.from)), until_us: Math.round(span.until) }}
        onOpen={(one) => {
          const around = Math.max(60e6, (one.until_us - one.from_us) * 0.2);
          onSpan({ from: one.from_us - around, until: one.until_us + around });
        }}
      />
    </Section>
  );
}

const STEP_WORDS = {
  round: "each round",
  minute: "each minute",
  "ten minutes": "each ten minutes",
  hour: "each hour",
} as const;

/** What the dotted lines are, and what they rest on. */
function normalWords(places: Model<"ReadPlace">[]): string {
  const days = Math.max(0, ...places.map((one) => one.baseline_days));
  const forming = places.some((one) => one.forming) ? `still forming after ${plural(days, "day")}` : "";
  return ["its median and three usual deviations either way", forming].filter(Boolean).join(", ");
}
