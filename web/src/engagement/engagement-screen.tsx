// The comparison: one line a site, sortable and filterable, to decide where the money goes.
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { get, type Model } from "../api/client";
import { ArchiveButton } from "../shared/archive";
import { Button, INPUT, LinkButton, Section } from "../shared/controls";
import { ago, DASH, plural } from "../shared/format";
import { useKey } from "../shared/keys";
import { PathThumb } from "../shared/path-picture";
import { RampKey } from "../shared/ramp";
import { ScoreBar } from "../shared/score-bar";
import { Pending, Trail } from "../shared/screen";
import { Strip } from "../shared/strip";
import { Term } from "../shared/term";
import { scoreWords, VerdictMark, VerdictWord } from "../shared/verdict";
import { ImportSites } from "./import-sites";
import { EngagementDialog } from "./new-engagement";

type Line = Model<"SiteLine">;

const ORDERS: Record<string, { words: string; by: (a: Line, b: Line) => number }> = {
  trouble: {
    words: "lowest score first",
    by: (a, b) => a.verdict.high - b.verdict.high || a.verdict.low - b.verdict.low,
  },
  name: { words: "by name", by: (a, b) => a.name.localeCompare(b.name) },
  short: {
    words: "largest shortfall first",
    by: (a, b) => missing(b) - missing(a),
  },
  evidence: { words: "least evidence first", by: (a, b) => a.evidence.moments - b.evidence.moments },
};

function missing(line: Line): number {
  return line.needed_calls - (line.sustained_calls ?? 0);
}

export function EngagementScreen({ id }: { id: string }) {
  const [search, setSearch] = useSearchParams();
  // Kept here too: the address follows the typing, it does not lead it.
  const [wanted, setWanted] = useState(search.get("filter") ?? "");
  const filter = useRef<HTMLInputElement>(null);
  useKey("/", () => filter.current?.focus());
  const page = useQuery({
    queryKey: ["engagement", id],
    queryFn: () => get("EngagementPage", `/api/engagements/${id}`),
    refetchInterval: 5000,
  });
  if (!page.data) return <Pending what="the engagement" error={page.error} />;
  const order = search.get("order") ?? "trouble";
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(name, value);
    else next.delete(name);
    setSearch(next, { replace: true });
  };
  const words = (line: Line) =>
    `${line.name} ${line.place} ${line.medium} ${line.verdict.word}`.toLowerCase();
  const lines = page.data.sites
    .filter((line) => words(line).includes(wanted.toLowerCase()))
    .sort((ORDERS[order] ?? ORDERS.trouble)?.by);
  return (
    <>
      <Trail steps={[["/", "Engagements"]]} title={page.data.name} />
      <div className="mt-2 flex items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">{page.data.name}</h1>
          <p className="mt-1 text-soft">{page.data.summary}</p>
        </div>
        <div className="flex gap-4">
          <label className="block w-48">
            <span className="text-sm text-soft">Filter</span>
            <input
              ref={filter}
              className={INPUT}
              value={wanted}
              onChange={(event) => {
                setWanted(event.target.value);
                set("filter", event.target.value);
              }}
            />
          </label>
          <label className="block w-48">
            <span className="text-sm text-soft">Order</span>
            <select className={INPUT} value={order} onChange={(event) => set("order", event.target.value)}>
              {Object.entries(ORDERS).map(([key, one]) => (
                <option key={key} value={key}>
                  {one.words}
                </option>
              ))}
            </select>
          </label>
        </div>
      </div>
      <div className="mt-4 flex items-center gap-3">
        <LinkButton act={page.data.sites.length === 0} to={`/engagements/${id}/new-site`}>
          New site
        </LinkButton>
        <ImportSites engagement={id} />
        <EngagementDialog of={page.data}>
          <Button>Name and summary …</Button>
        </EngagementDialog>
        <LinkButton to={`/engagements/${id}/codecs`}>Codec values</LinkButton>
        <ArchiveButton path={`/api/engagements/${id}/archive`} archived={page.data.archived} />
      </div>
      {page.data.archived && <p className="mt-4">This engagement is archived. Everything of it is kept.</p>}
      {page.data.sites.length === 0 && (
        <p className="mt-8 max-w-2xl">
          No site yet. A site is one building with one way out: write down who works there and what line it
          has, and the arithmetic of its calls stands beside it at once. Many sites come quickest from a list.
        </p>
      )}
      <table className={`mt-6 w-full border-collapse ${page.data.sites.length === 0 ? "hidden" : ""}`}>
        <thead>
          <tr className="rule text-left text-sm text-soft [&>th]:py-2 [&>th]:pr-5 [&>th]:font-normal">
            <th>Site</th>
            <th>Verdict</th>
            <th className="text-right">Score</th>
            <th className="text-right">
              <Term of="sustained">Calls shown / needed</Term>
            </th>
            <th>Call path: upload over download</th>
            <th className="w-[200px]">Seven days, worst call an hour</th>
            <th>Evidence</th>
          </tr>
        </thead>
        {lines.map((line) => (
          <SiteRows key={line.slug} line={line} />
        ))}
      </table>
      {lines.length === 0 && page.data.sites.length > 0 && (
        <p className="py-8">No site matches “{wanted}”.</p>
      )}
      {lines.length > 0 && (
        <p className="mt-5">
          <RampKey />
        </p>
      )}
      {page.data.archived_sites.length > 0 && (
        <Section title="Archived sites" aside="kept with everything of theirs">
          <ul className="flex flex-wrap gap-x-8 gap-y-1">
            {page.data.archived_sites.map((site) => (
              <li key={site.slug}>
                <Link to={`/sites/${site.slug}`} className="underline underline-offset-3">
                  {site.name}
                </Link>
                <span className="text-sm text-soft"> archived {ago(site.archived_us)}</span>
              </li>
            ))}
          </ul>
        </Section>
      )}
    </>
  );
}

function SiteRows({ line }: { line: Line }) {
  const { evidence, next } = line;
  const to = next.action === "open-run" ? `/runs/${next.run_id}` : next.action === "report" ? "/report" : "";
  const href = next.action === "open-run" ? to : `/sites/${line.slug}${to}`;
  return (
    <tbody className="hair border-t">
      <tr className="[&>td]:pt-4 [&>td]:pr-5 [&>td]:align-top">
        <td className="max-w-60">
          <Link to={`/sites/${line.slug}`} className="text-lg font-semibold leading-tight hover:underline">
            {line.name}
          </Link>
          <p className="text-sm leading-snug text-soft">{line.medium}</p>
        </td>
        <td>
          <span className="flex items-start gap-2.5">
            <VerdictMark word={line.verdict.word} provisional={line.verdict.provisional} />
            <VerdictWord verdict={line.verdict} />
          </span>
        </td>
        <td className="w-28 text-right text-xl font-semibold leading-6 whitespace-nowrap">
          {scoreWords(line.verdict)}
          <span className="mt-1 block">
            <ScoreBar low={line.verdict.low} high={line.verdict.high} />
          </span>
        </td>
        <td className="text-right text-lg leading-6">
          {line.sustained_calls ?? DASH} <span className="text-soft">/ {line.needed_calls}</span>
          {(line.held_calls ?? 0) > (line.sustained_calls ?? 0) && (
            <span className="block text-sm text-soft">{line.held_calls} observed</span>
          )}
        </td>
        <td>
          <PathThumb path={line.path ?? null} />
        </td>
        <td>
          <Strip hours={line.strip} />
        </td>
        <td className="text-sm leading-snug whitespace-nowrap">
          {plural(evidence.days, "day")}, {evidence.required_days} asked
          <br />
          {line.share.pct === null
            ? "no call in business hours"
            : `${line.share.good} of ${plural(line.share.calls, "call")} acceptable`}
          {line.share.pct !== null && <span className="block text-soft">{line.share.says}</span>}
        </td>
      </tr>
      <tr>
        <td colSpan={7} className="pt-1.5 pb-4 text-[15px]">
          <Link to={href} className="font-semibold text-act hover:underline">
            {next.words}
          </Link>
          <span className="text-soft"> · {next.why}</span>
        </td>
      </tr>
    </tbody>
  );
}
