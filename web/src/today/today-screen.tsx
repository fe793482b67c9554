// The start page: what needs a look, what goes on, what comes next, what has changed, and the engagements.
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { get, type Model } from "../api/client";
import { RampKey } from "../charts/ramp";
import { daysBetween } from "../charts/spell-geometry";
import { WeekLine } from "../charts/week-line";
import { EngagementDialog } from "../engagement/new-engagement";
import { Button, INPUT, Section } from "../ui/controls";
import { ago, dateTime, plural } from "../ui/format";
import { useKey } from "../ui/keys";
import { slowing } from "../ui/polling";
import { Pending, Trail } from "../ui/screen";
import { scoreWords, VerdictMark, VerdictWord } from "../ui/verdict";

const PACE = slowing(3000);
/** Up to so many are found by looking. */
const FEW = 6;

const FEW_OFFLINE = 2;

const ROW = "gap-x-6 md:grid-cols-[44px_200px_220px_1fr_150px]";

type Page = Model<"TodayPage">;
type Item = Model<"TodayItem">;
type Engagement = Model<"TodayEngagement">;

export function TodayScreen() {
  const [wanted, setWanted] = useState("");
  const filter = useRef<HTMLInputElement>(null);
  useKey("/", () => filter.current?.focus());
  const page = useQuery({
    queryKey: ["today"],
    queryFn: () => get("TodayPage", "/api/today"),
    refetchInterval: PACE,
  });
  if (!page.data) return <Pending what="what goes on today" error={page.error} />;
  const all = page.data.engagements;
  const shown = all.filter((one) =>
    `${one.name} ${one.summary}`.toLowerCase().includes(wanted.toLowerCase()),
  );
  return (
    <>
      <Trail steps={[]} title="Today" />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-4">
        <h1 className="text-3xl tracking-tight">Today</h1>
        <div className="flex flex-wrap items-end gap-4">
          {all.length > FEW && (
            <label className="block w-56">
              <span className="text-sm text-soft">Filter engagements</span>
              <input
                ref={filter}
                className={INPUT}
                value={wanted}
                onChange={(event) => setWanted(event.target.value)}
              />
            </label>
          )}
          <EngagementDialog>
            <Button act={all.length === 0 && page.data.archived.length === 0}>New engagement …</Button>
          </EngagementDialog>
        </div>
      </div>
      {all.length === 0 ? (
        <p className="mt-6 max-w-xl">
          There is no engagement here yet. An engagement is a customer project and its sites: create one, then
          write down its first site.
        </p>
      ) : (
        <Now page={page.data} />
      )}
      {shown.length === 0 && all.length > 0 && <p className="mt-6">No engagement matches “{wanted}”.</p>}
      {shown.map((one) => (
        <EngagementStrips key={one.slug} engagement={one} page={page.data} />
      ))}
      {shown.some((one) => one.shown.some((site) => site.hours_of !== null)) && (
        <p className="mt-5">
          <RampKey />
        </p>
      )}
      {page.data.archived.length > 0 && (
        <p className="mt-6 text-sm text-soft">
          Archived:{" "}
          {page.data.archived.map((one) => (
            <Link
              key={one.slug}
              to={`/engagements/${one.slug}`}
              className="mr-4 underline underline-offset-3"
            >
              {one.name}
            </Link>
          ))}
        </p>
      )}
    </>
  );
}

/** Probes that are offline, where there are several, in one row: they often fell silent together. */
function Trouble({ items }: { items: Item[] }) {
  const offline = items.filter((one) => one.path.endsWith("/place"));
  const together = offline.length > FEW_OFFLINE ? offline : [];
  const since = (item: Item) => `since ${dateTime(item.at_us, item.time_zone)}`;
  return (
    <>
      <Items items={items.filter((one) => !together.includes(one))} when={since} />
      {together.length > 0 && (
        <div className="hair border-t py-1.5 leading-snug">
          <h3 className="font-semibold">{together.length} probes are offline</h3>
          <ul className="flex flex-wrap gap-x-6">
            {together.map((one) => (
              <li key={one.path}>
                <Link to={one.path} className="underline underline-offset-3">
                  {one.site_name}
                </Link>{" "}
                <span className="text-sm text-soft">{since(one)}</span>
              </li>
            ))}
          </ul>
        </div>
      )}
    </>
  );
}

function Now({ page }: { page: Page }) {
  return (
    <>
      <Section title="Needs a look">
        {page.trouble.length === 0 ? (
          <p>Nothing: no alert is open, no probe is offline, and every watch brings samples.</p>
        ) : (
          <Trouble items={page.trouble} />
        )}
      </Section>
      <div className="grid gap-x-12 lg:grid-cols-3">
        <Section title="Running now">
          <Items items={page.running} when={(item) => ago(item.at_us)} none="Nothing runs." />
        </Section>
        <Section title="Next">
          <Items
            items={page.coming}
            when={(item) => dateTime(item.at_us, item.time_zone)}
            none="Nothing is planned."
          />
        </Section>
        <Section
          title="Since your last visit"
          aside={page.since_us === null ? undefined : ago(page.since_us)}
        >
          {page.changed.length === 0 ? (
            <p>{page.since_us === null ? "This is your first." : "Nothing has changed."}</p>
          ) : (
            <ul>
              {page.changed.map((one) => (
                <li key={one.site_slug} className="hair border-t py-1.5 leading-snug first:border-t-0">
                  <SiteLink slug={one.site_slug} name={one.site_name} />
                  <span className="block text-sm">{one.says}</span>
                </li>
              ))}
            </ul>
          )}
        </Section>
      </div>
    </>
  );
}

function SiteLink({ slug, name }: { slug: string; name: string }) {
  return (
    <Link to={`/sites/${slug}`} className="py-0.5 font-semibold underline underline-offset-3">
      {name}
    </Link>
  );
}

function Items({ items, when, none }: { items: Item[]; when: (item: Item) => string; none?: string }) {
  if (items.length === 0) return <p>{none}</p>;
  return (
    <ul>
      {items.map((item) => (
        <li
          key={`${item.path} ${item.says} ${item.at_us}`}
          className="hair flex flex-wrap items-baseline gap-x-3 gap-y-1 border-t py-1.5 leading-snug first:border-t-0"
        >
          <SiteLink slug={item.site_slug} name={item.site_name} />
          <Link to={item.path} className="py-0.5 hover:underline">
            {item.says}
          </Link>
          <span className="text-sm text-soft">{when(item)}</span>
        </li>
      ))}
    </ul>
  );
}

function EngagementStrips({ engagement, page }: { engagement: Engagement; page: Page }) {
  const more = engagement.sites - engagement.shown.length;
  return (
    <Section
      title={engagement.name}
      to={`/engagements/${engagement.slug}`}
      aside={
        <Link to={`/engagements/${engagement.slug}`} className="underline underline-offset-3">
          Compare {plural(engagement.sites, "site")}
        </Link>
      }
    >
      <p className="text-soft">{engagement.summary}</p>
      <div className={`mt-2 hidden text-xs text-soft md:grid ${ROW}`} aria-hidden="true">
        <span className="relative col-start-4 h-4">
          {daysBetween(page.from_us, page.until_us).map((day) => (
            <span key={day.at} className="absolute pl-1" style={{ left: `${100 * day.at}%` }}>
              {day.at < 0.95 && day.name}
            </span>
          ))}
        </span>
      </div>
      <ul>
        {engagement.shown.map((site) => (
          <li key={site.slug} className={`hair grid items-center gap-y-1 border-t py-2 ${ROW}`}>
            <VerdictMark word={site.verdict.word} provisional={site.verdict.provisional} />
            <SiteLink slug={site.slug} name={site.name} />
            <p className="leading-tight">
              <VerdictWord verdict={site.verdict} />
              <span className="block text-sm text-soft">score {scoreWords(site.verdict)}</span>
            </p>
            <WeekLine hours={site.hours} of={site.hours_of} from={page.from_us} until={page.until_us} />
            <p className="text-sm leading-tight">
              {site.alerts > 0 && (
                <span className="block font-semibold">{plural(site.alerts, "open alert")}</span>
              )}
              {site.probes > 0 ? `${site.online} of ${plural(site.probes, "probe")} online` : "no probe yet"}
            </p>
          </li>
        ))}
      </ul>
      {more > 0 && (
        <p className="mt-2 text-sm text-soft">The lowest scores first; {more} more on its own page.</p>
      )}
    </Section>
  );
}
