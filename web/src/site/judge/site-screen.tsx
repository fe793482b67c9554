// One site in the order of the work: the next step above everything, the spine, and each stage below.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Model } from "../../api/client";
import { DaySheet } from "../../charts/day-sheet";
import { PathPicture } from "../../charts/path-picture";
import { RampKey } from "../../charts/ramp";
import { RunTable } from "../../run/run-table";
import { ArchiveButton } from "../../ui/archive";
import { Button, Figure, LinkButton, Section } from "../../ui/controls";
import { ago, fixed, megabits, pct, plural, withUnit } from "../../ui/format";
import { slowing } from "../../ui/polling";
import { Pending, Trail } from "../../ui/screen";
import { scoreWords, VerdictMark, VerdictWord } from "../../ui/verdict";
import { BenchMenu } from "../bench-menu";
import { Causes } from "./causes";
import { Coverage } from "./coverage";
import { DuplicateSite } from "./duplicate-site";
import { OwnCauses } from "./own-causes";
import { PlaceCalls } from "./place-calls";
import { Remedies } from "./remedies";
import { Requirements } from "./requirements";
import { ScoreTable } from "./score-table";

const PACE = slowing(4000);

type Site = Model<"SitePage">;

export function SiteScreen({ id }: { id: string }) {
  const [placing, setPlacing] = useState(false);
  const page = useQuery({
    queryKey: ["site", id],
    queryFn: () => get("SitePage", `/api/sites/${id}`),
    refetchInterval: PACE,
  });
  if (!page.data) return <Pending what="the site" error={page.error} />;
  const site = page.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${site.engagement_slug}`, site.engagement_name],
        ]}
        title={site.name}
      />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">{site.name}</h1>
          <p className="mt-1 text-soft">
            {[site.brief.place, site.brief.medium, lineWords(site.brief)].filter(Boolean).join(" · ")}
          </p>
        </div>
        <div
          className={`flex items-center gap-4 px-4 py-2 ${site.verdict.provisional ? "hatched" : "border border-ink"}`}
        >
          <VerdictMark word={site.verdict.word} provisional={site.verdict.provisional} />
          <VerdictWord verdict={site.verdict} />
          <p className="ml-3 text-3xl leading-none font-semibold">
            {scoreWords(site.verdict)}
            <span className="text-base font-normal text-soft"> of 100</span>
          </p>
        </div>
      </div>

      <NextStepBar site={site} onPlace={() => setPlacing(true)} />
      <Spine slug={site.slug} stages={site.stages} />
      <BenchMenu slug={site.slug} />
      <PlaceCalls site={site} open={placing} onOpenChange={setPlacing} />

      {site.path && (
        <Section id="path" title="Call path" aside={<RampKey />}>
          <PathPicture path={site.path} slug={site.slug} />
        </Section>
      )}
      <Section
        id="watch"
        title="Day sheet"
        aside={`ten-minute cells of the site’s day (${site.brief.time_zone}), up over down, worst call in each`}
      >
        <DaySheet sheet={site.sheet} leftOut={site.evidence.left_out_calls} />
      </Section>
      <Section
        id="judge"
        title="Requirements of the brief"
        aside={
          <span className="flex flex-wrap items-center gap-5">
            what was not tried is open, not failed
            <LinkButton to={`/sites/${site.slug}/what-if`}>What if …</LinkButton>
          </span>
        }
      >
        <Requirements site={site} />
        <Remedies site={site} />
      </Section>
      <Section
        id="coverage"
        title="Evidence by hour of the week"
        aside={`the site’s time (${site.brief.time_zone})`}
      >
        <Coverage site={site} />
      </Section>
      <div className="grid lg:grid-cols-[1fr_1fr] gap-x-12">
        <Section
          id="causes"
          title="Causes"
          aside={
            site.causes.length > 0 &&
            `${plural(site.causes.length, "cause")}, ${site.causes.some((one) => one.weight) ? "in the consultant’s order" : "costliest first"}`
          }
        >
          <Causes site={site} />
          <OwnCauses slug={site.slug} />
        </Section>
        <Section id="score" title="Score" aside="filled: earned; hatched: open; empty: lost">
          <ScoreTable dimensions={site.dimensions} />
        </Section>
      </div>
      <Section id="load" title="Runs" aside={<RunsAside site={site} onPlace={() => setPlacing(true)} />}>
        <Runs site={site} />
      </Section>
      <div className="grid lg:grid-cols-[1fr_1fr] gap-x-12">
        <Section id="brief" title="Brief" aside={<BriefAside site={site} />}>
          <Brief site={site} />
        </Section>
        <Section
          id="place"
          title="Probes and far ends"
          aside={<LinkButton to={`/sites/${site.slug}/place`}>Open test points</LinkButton>}
        >
          <Places site={site} />
        </Section>
      </div>
    </>
  );
}

function lineWords(brief: Site["brief"]): string {
  if (brief.down_kbps === null && brief.up_kbps === null) return "the line’s rates are not entered yet";
  return `${megabits(brief.down_kbps)} down, ${megabits(brief.up_kbps)} up`;
}

function NextStepBar({ site, onPlace }: { site: Site; onPlace: () => void }) {
  const { next } = site;
  return (
    <div className="mt-5 flex flex-wrap items-center justify-between gap-6 border-l-4 border-act bg-raised py-3 pr-4 pl-4">
      <p className="leading-snug">
        <span className="font-semibold">Next: {next.words}.</span>{" "}
        <span className="text-soft">{next.why}</span>
      </p>
      <span className="shrink-0">
        {next.action === "place" && (
          <LinkButton act to={`/sites/${site.slug}/place`}>
            {next.label}
          </LinkButton>
        )}
        {next.action === "plan" && (
          <LinkButton act to={`/sites/${site.slug}/load`}>
            {next.label}
          </LinkButton>
        )}
        {next.action === "archive" && <ArchiveButton path={`/api/sites/${site.slug}/archive`} archived />}
        {next.action === "load" && (
          <Button act onClick={onPlace}>
            {next.label}
          </Button>
        )}
        {next.action === "report" && (
          <LinkButton act to={`/sites/${site.slug}/report`}>
            {next.label}
          </LinkButton>
        )}
        {next.action === "open-run" && (
          <LinkButton act to={`/runs/${next.run_id}`}>
            {next.label}
          </LinkButton>
        )}
      </span>
    </div>
  );
}

/** The order of the work as a sounding line: a lead at each stage, filled where the stage stands. */
/** Stages that are a screen of their own; the others stand on the site's page. */
const OWN_SCREEN = ["brief", "place", "check", "load", "watch", "report"];

function Spine({ slug, stages }: { slug: string; stages: Site["stages"] }) {
  return (
    <ol className="mt-6 grid grid-cols-2 gap-y-4 sm:grid-cols-3 lg:grid-cols-7">
      {stages.map((stage, i) => (
        <li key={stage.key} className="relative pr-4">
          <span
            aria-hidden="true"
            className={`absolute top-[6px] left-0 h-px bg-ink ${i === stages.length - 1 ? "w-3" : "w-full"}`}
          />
          <span
            aria-hidden="true"
            className={`relative block h-[13px] w-[13px] rotate-45 border border-ink ${stage.done ? "bg-ink" : "bg-paper"}`}
          />
          <Link
            to={OWN_SCREEN.includes(stage.key) ? `/sites/${slug}/${stage.key}` : `#${stage.key}`}
            className="mt-2 block font-semibold hover:underline"
          >
            {stage.title}
            <span className="sr-only">{stage.done ? ", stands" : ", open"}</span>
          </Link>
          <p className="text-sm leading-snug text-soft">{stage.stands}</p>
        </li>
      ))}
    </ol>
  );
}

function RunsAside({ site, onPlace }: { site: Site; onPlace: () => void }) {
  return (
    <span className="flex flex-wrap items-center gap-5">
      {site.runs_total > site.runs.length && (
        <Link to={`/sites/${site.slug}/runs`} className="underline underline-offset-3">
          All {site.runs_total} runs
        </Link>
      )}
      <LinkButton to={`/sites/${site.slug}/imports`}>Imported files</LinkButton>
      <LinkButton to={`/sites/${site.slug}/load`}>Plans</LinkButton>
      <Button onClick={onPlace}>Place calls …</Button>
    </span>
  );
}

function Runs({ site }: { site: Site }) {
  if (site.runs.length === 0) {
    return (
      <p>
        No concurrent calls were placed here yet. A minute of calls shows whether audio passes in both
        directions.
      </p>
    );
  }
  return <RunTable runs={site.runs} timeZone={site.brief.time_zone} />;
}

function BriefAside({ site }: { site: Site }) {
  return (
    <span className="flex flex-wrap items-center gap-3">
      <LinkButton to={`/sites/${site.slug}/brief`}>Open the brief</LinkButton>
      <DuplicateSite site={site} />
      {!site.archived && <ArchiveButton path={`/api/sites/${site.slug}/archive`} archived={false} />}
    </span>
  );
}

function Brief({ site }: { site: Site }) {
  const { brief } = site;
  return (
    <>
      <div className="grid md:grid-cols-3 gap-x-6 gap-y-4">
        <Figure value={String(brief.needed_calls)}>concurrent calls, {brief.people ?? "–"} people</Figure>
        <Figure value={fixed(brief.target_mos, 1)} unit="MOS">
          required of {withUnit(brief.required_share_pct, "%")} of calls
        </Figure>
        <Figure value={pct(brief.line_share_up_pct, 1)}>
          of the line up, {pct(brief.line_share_down_pct, 1)} down, for all calls
          {brief.video.length > 0 && " and video"}
        </Figure>
      </div>
      <p className="mt-4 text-sm leading-relaxed text-soft">
        {brief.codec_title} every {withUnit(brief.ptime_ms, "ms")}
        {brief.video.map((load) => `, ${load.streams} × ${load.title}`).join("")} · business hours{" "}
        {brief.business_hours}, {brief.time_zone}
        {brief.provider && ` · line by ${brief.provider}`} · evidence required:{" "}
        {plural(site.evidence.required_days, "day")}, {plural(site.evidence.required_busy_hours, "busy hour")}
        , {plural(site.evidence.required_moments, "ten-minute moment")} with calls
      </p>
    </>
  );
}

function Places({ site }: { site: Site }) {
  return (
    <ul className="space-y-2">
      {site.probes.map((probe) => (
        <li key={probe.id}>
          <span className="font-semibold">{probe.name}</span>, test point: {probe.test_point}
          <span className="block text-sm text-soft">
            {probe.last_contact_us
              ? `${probe.online ? "online" : "offline: check its power and network"}, last contact ${ago(probe.last_contact_us)}`
              : "not enrolled on this server"}
            {probe.system && ` · ${probe.system}`}
          </span>
        </li>
      ))}
      {site.far_ends.map((far) => (
        <li key={far.id}>
          <span className="font-semibold">{far.name}</span>, far end
          <span className="block text-sm text-soft">
            {far.place} · <span className="font-mono text-[13px]">{`${far.host}:${far.port}`}</span>
          </span>
        </li>
      ))}
    </ul>
  );
}
