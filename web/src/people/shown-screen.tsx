// What a customer sees: the reports that were issued, and where they may, how each site stands now.
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, Navigate } from "react-router";
import { get, type Model } from "../api/client";
import { RampKey } from "../charts/ramp";
import { ScoreBar } from "../charts/score-bar";
import { Strip } from "../charts/strip";
import { dateTime } from "../ui/format";
import { slowing } from "../ui/polling";
import { Pending } from "../ui/screen";
import { scoreWords, VerdictMark, VerdictWord } from "../ui/verdict";

const PACE = slowing(10_000);

type Site = Model<"ShownSite">;

/** Where a customer begins: the one engagement, or a choice of them. */
export function ShownListScreen() {
  const page = useQuery({ queryKey: ["shown"], queryFn: () => get("ShownList", "/api/shown") });
  useEffect(() => {
    document.title = "Your sites · Tarnfell";
  }, []);
  if (!page.data) return <Pending what="your sites" error={page.error} />;
  const [only, ...others] = page.data.engagements;
  if (!only) return <p className="mt-8">Nothing is shown to you any more. Ask your consultant.</p>;
  if (others.length === 0) return <Navigate to={`/engagements/${only.slug}/shown`} replace />;
  return (
    <>
      <h1 className="mt-6 text-3xl tracking-tight">Your sites</h1>
      <ul className="mt-4 text-lg">
        {page.data.engagements.map((one) => (
          <li key={one.slug} className="mt-1">
            <Link className="underline underline-offset-3" to={`/engagements/${one.slug}/shown`}>
              {one.name}
            </Link>
          </li>
        ))}
      </ul>
    </>
  );
}

export function ShownScreen({ id }: { id: string }) {
  const page = useQuery({
    queryKey: ["shown", id],
    queryFn: () => get("ShownPage", `/api/engagements/${id}/shown`),
    refetchInterval: PACE,
  });
  useEffect(() => {
    if (page.data) document.title = `${page.data.engagement_name} · Tarnfell`;
  }, [page.data]);
  if (!page.data) return <Pending what="the sites" error={page.error} />;
  const { data } = page;
  return (
    <>
      <h1 className="mt-6 text-3xl tracking-tight">{data.engagement_name}</h1>
      <p className="mt-1 max-w-3xl text-soft">{data.summary}</p>
      {data.sites.length === 0 && <p className="mt-8">No site has been added yet.</p>}
      {data.sites.map((site) => (
        <OneSite key={site.name} site={site} />
      ))}
      {data.live && (
        <div className="mt-8 text-sm text-soft">
          <RampKey />
          <p className="mt-1">
            A week of each site: an hour hangs as deep as the worst call in it was spoiled; a bare hour was
            not measured.
          </p>
        </div>
      )}
    </>
  );
}

function OneSite({ site }: { site: Site }) {
  const newest = site.issued.find((one) => one.state === "issued");
  return (
    <section aria-label={site.name} className="rule mt-8 border-t pt-3">
      <div className="grid gap-x-10 gap-y-3 lg:grid-cols-[1fr_1fr]">
        <div>
          <h2 className="text-xl tracking-tight">{site.name}</h2>
          <p className="text-sm text-soft">{site.place}</p>
          {newest ? (
            <p className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
              <VerdictMark
                word={newest.word as Model<"VerdictView">["word"]}
                provisional={newest.provisional === true}
              />
              <span>
                <span className="font-semibold">
                  {newest.word}
                  {newest.provisional && ", provisional"}
                </span>
                <span className="block text-sm text-soft">
                  {scoreWords(newest)} of 100, as issued {dateTime(newest.issued_us, site.time_zone)}
                </span>
              </span>
            </p>
          ) : (
            <p className="mt-3">No report stands for this site.</p>
          )}
          <ul className="mt-3">
            {site.issued.map((one, i) => (
              <li key={one.id} className="hair flex flex-wrap items-baseline gap-x-4 border-t py-1.5">
                <a className="underline underline-offset-3" href={`/api/issued/${one.id}/report.html`}>
                  Report {one.number}
                </a>
                {one.has_pdf && (
                  <a
                    className="text-sm underline underline-offset-3"
                    href={`/api/issued/${one.id}/report.pdf`}
                  >
                    PDF
                  </a>
                )}
                {site.issued[i + 1] && (
                  <Link
                    className="text-sm underline underline-offset-3"
                    to={`/reports/compare?first=${site.issued[i + 1]?.id}&second=${one.id}`}
                  >
                    What changed
                  </Link>
                )}
                <span className="text-sm text-soft">
                  {dateTime(one.issued_us, site.time_zone)}
                  {one.state === "replaced" && `, replaced by ${one.replaced_by}`}
                  {one.state === "withdrawn" && `, withdrawn: ${one.withdrawn}`}
                </span>
              </li>
            ))}
          </ul>
        </div>
        {site.now && <Now now={site.now} />}
      </div>
    </section>
  );
}

function Now({ now }: { now: Model<"ShownNow"> }) {
  return (
    <div>
      <h3 className="text-sm text-soft">How it stands now</h3>
      <div className="mt-1 flex flex-wrap items-center gap-4">
        <VerdictMark word={now.verdict.word} provisional={now.verdict.provisional} />
        <VerdictWord verdict={now.verdict} />
        <span className="text-sm">{scoreWords(now.verdict)} of 100</span>
        <span className="w-40">
          <ScoreBar low={now.verdict.low} high={now.verdict.high} />
        </span>
      </div>
      {now.summary.map((line) => (
        <p key={line} className="mt-1.5 leading-snug">
          {line}
        </p>
      ))}
      <div className="mt-3 max-w-md">
        <Strip hours={now.strip} />
      </div>
    </div>
  );
}
