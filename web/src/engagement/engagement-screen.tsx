// The comparison: one line a site, sortable and filterable, to decide where the money goes.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { get, type Model, post } from "../api/client";
import { PathThumb } from "../charts/path-picture";
import { RampKey } from "../charts/ramp";
import { ScoreBar } from "../charts/score-bar";
import { Strip } from "../charts/strip";
import { ArchiveButton } from "../ui/archive";
import { Button, INPUT, LinkButton, Note, PageLink, Section } from "../ui/controls";
import { DocumentFile } from "../ui/document-file";
import { ago, DASH, plural } from "../ui/format";
import { useKey } from "../ui/keys";
import { Pager } from "../ui/pager";
import { slowing } from "../ui/polling";
import { Pending, Trail } from "../ui/screen";
import { Term } from "../ui/term";
import { scoreWords, VerdictMark, VerdictWord } from "../ui/verdict";
import { Wide } from "../ui/wide";
import { ImportSites } from "./import-sites";
import { EngagementDialog } from "./new-engagement";

const PACE = slowing(5000);

type Line = Model<"SiteLine">;

const PAGE = 50;

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
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const filter = useRef<HTMLInputElement>(null);
  useKey("/", () => filter.current?.focus());
  const page = useQuery({
    queryKey: ["engagement", id],
    queryFn: () => get("EngagementPage", `/api/engagements/${id}`),
    refetchInterval: PACE,
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
  const found = page.data.sites
    .filter((line) => words(line).includes(wanted.toLowerCase()))
    .sort((ORDERS[order] ?? ORDERS.trouble)?.by);
  const at = Math.min(Number(search.get("page") ?? 0) || 0, Math.max(0, Math.ceil(found.length / PAGE) - 1));
  const lines = found.slice(at * PAGE, (at + 1) * PAGE);
  return (
    <>
      <Trail steps={[["/", "Today"]]} title={page.data.name} />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">{page.data.name}</h1>
          <p className="mt-1 text-soft">{page.data.summary}</p>
        </div>
        <div className="flex flex-wrap gap-4">
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
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <LinkButton act={page.data.sites.length === 0} to={`/engagements/${id}/new-site`}>
          New site
        </LinkButton>
        <ImportSites engagement={id} />
        {page.data.may_change && (
          <EngagementDialog of={page.data}>
            <Button>Name and paper …</Button>
          </EngagementDialog>
        )}
        <LinkButton to={`/engagements/${id}/alerts`}>Alerts</LinkButton>
        <LinkButton to={`/engagements/${id}/people`}>People</LinkButton>
        {page.data.may_change && <LinkButton to={`/engagements/${id}/brand`}>Brand</LinkButton>}
        <PageLink href={`/api/engagements/${id}/report.html`}>Report of all sites</PageLink>
        <DocumentFile path={`/api/engagements/${id}/report/pdf`} words="All sites, PDF" />
        <LinkButton to={`/engagements/${id}/codecs`}>Codec values</LinkButton>
        {page.data.may_change && (
          <ArchiveButton path={`/api/engagements/${id}/archive`} archived={page.data.archived} />
        )}
      </div>
      {page.data.archived && <p className="mt-4">This engagement is archived. Everything of it is kept.</p>}
      {page.data.sites.length === 0 && (
        <p className="mt-8 max-w-2xl">
          No site yet. A site is one building with one WAN connection: write down who works there and what
          line it has, and the arithmetic of its calls stands beside it at once. Many sites come quickest from
          a list.
        </p>
      )}
      {chosen.size > 0 && (
        <Bulk
          lines={page.data.sites.filter((line) => chosen.has(line.slug))}
          onDone={() => setChosen(new Set())}
        />
      )}
      <Wide label="Sites">
        <table className={`mt-6 w-full border-collapse ${page.data.sites.length === 0 ? "hidden" : ""}`}>
          <thead className="sticky top-0 z-[5] bg-paper">
            <tr className="rule text-left text-sm text-soft [&>th]:py-2 [&>th]:pr-5 [&>th]:font-normal">
              <th>
                <label className="flex items-center gap-2.5">
                  <input
                    type="checkbox"
                    aria-label="Select all sites shown"
                    className="h-4 w-4 accent-[var(--ink)]"
                    checked={lines.length > 0 && lines.every((line) => chosen.has(line.slug))}
                    onChange={(event) =>
                      setChosen(
                        event.target.checked ? new Set([...chosen, ...lines.map((l) => l.slug)]) : new Set(),
                      )
                    }
                  />
                  Site
                </label>
              </th>
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
            <SiteRows
              key={line.slug}
              line={line}
              chosen={chosen.has(line.slug)}
              onChoose={(on) => {
                const next = new Set(chosen);
                if (on) next.add(line.slug);
                else next.delete(line.slug);
                setChosen(next);
              }}
            />
          ))}
        </table>
      </Wide>
      {lines.length === 0 && page.data.sites.length > 0 && (
        <p className="py-8">No site matches “{wanted}”.</p>
      )}
      <Pager page={at} size={PAGE} total={found.length} onPage={(i) => set("page", i ? String(i) : "")} />
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

/** What can be done with several sites at once. */
function Bulk({ lines, onDone }: { lines: Line[]; onDone: () => void }) {
  const queries = useQueryClient();
  const [archived, setArchived] = useState<Line[]>([]);
  const [problem, setProblem] = useState<string | null>(null);
  const archive = async (sites: Line[], on: boolean) => {
    const failed: string[] = [];
    const done: Line[] = [];
    for (const line of sites) {
      try {
        await post("Made", `/api/sites/${line.slug}/archive`, { archived: on });
        done.push(line);
      } catch (error) {
        failed.push((error as Error).message);
      }
    }
    setArchived(on ? done : []);
    setProblem(failed.length > 0 ? failed.join(" ") : null);
    await queries.invalidateQueries();
  };
  return (
    <div
      className="mt-4 flex flex-wrap items-center gap-4 border-l-4 border-ink bg-raised py-2 pl-4"
      role="status"
    >
      {archived.length > 0 ? (
        <>
          <span>{plural(archived.length, "site")} archived.</span>
          <Button onClick={() => archive(archived, false)}>Undo</Button>
        </>
      ) : (
        <>
          <span className="font-semibold">{plural(lines.length, "site")} selected</span>
          <Button onClick={() => archive(lines, true)}>Archive</Button>
          <details>
            <summary className="cursor-pointer">Reports</summary>
            <ul className="mt-1">
              {lines.map((line) => (
                <li key={line.slug}>
                  <DocumentFile path={`/api/sites/${line.slug}/report/pdf`} words={`${line.name}, PDF`} />
                </li>
              ))}
            </ul>
          </details>
        </>
      )}
      <button type="button" className="text-sm underline underline-offset-3" onClick={onDone}>
        {archived.length > 0 ? "Close" : "Clear selection"}
      </button>
      {problem && <Note>{problem}</Note>}
    </div>
  );
}

interface RowsProps {
  line: Line;
  chosen: boolean;
  onChoose: (on: boolean) => void;
}

function SiteRows({ line, chosen, onChoose }: RowsProps) {
  const { evidence, next } = line;
  const to = next.action === "open-run" ? `/runs/${next.run_id}` : next.action === "report" ? "/report" : "";
  const href = next.action === "open-run" ? to : `/sites/${line.slug}${to}`;
  return (
    <tbody className="hair border-t">
      <tr className="[&>td]:pt-4 [&>td]:pr-5 [&>td]:align-top">
        <td className="max-w-60">
          <span className="flex gap-2.5">
            <input
              type="checkbox"
              aria-label={`Select ${line.name}`}
              className="mt-1 h-4 w-4 shrink-0 accent-[var(--ink)]"
              checked={chosen}
              onChange={(event) => onChoose(event.target.checked)}
            />
            <span>
              <Link
                to={`/sites/${line.slug}`}
                className="text-lg font-semibold leading-tight hover:underline"
              >
                {line.name}
              </Link>
              <span className="block text-sm leading-snug text-soft">{line.medium}</span>
            </span>
          </span>
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
          {plural(evidence.days, "day")}, {evidence.required_days} required
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
