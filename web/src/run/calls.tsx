// Every call of a run: sorted by what is worst, filtered, with few figures or all of them, and as files.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { get, type Model } from "../api/client";
import { paintMos } from "../charts/depth";
import { FileLink, Section } from "../ui/controls";
import { DocumentFile } from "../ui/document-file";
import { CheckField, SelectField } from "../ui/fields";
import { clock, fixed, marking, ms, pct } from "../ui/format";
import { Pager } from "../ui/pager";
import { Wide } from "../ui/wide";

type Run = Model<"RunPage">;
type Call = Model<"CallLine">;

const PAGE = 25;

const SORTS = [
  ["number", "as they were placed"],
  ["mos", "worst MOS first"],
  ["lost", "most loss first"],
  ["late", "most late first"],
  ["delay", "longest delay first"],
  ["jitter", "highest jitter first"],
  ["burst", "burstiest first"],
  ["reordered", "most reordered first"],
  ["duplicates", "most duplicated first"],
] as const;

const FILTERS = [
  ["all", "all calls"],
  ["unacceptable", "not acceptable"],
  ["lossy", "with loss"],
  ["late", "with late packets"],
  ["remarked", "with changed marking"],
  ["silent", "with a silent direction"],
] as const;

export function Calls({ run }: { run: Run }) {
  const [search, setSearch] = useSearchParams();
  const page = Math.max(0, Number(search.get("page") ?? 0) || 0);
  const sort = search.get("sort") ?? "number";
  const only = search.get("only") ?? "all";
  const all = search.get("figures") === "all";
  const list = useQuery({
    queryKey: ["calls", run.id, page, sort, only],
    queryFn: () =>
      get(
        "CallList",
        `/api/runs/${run.id}/calls?limit=${PAGE}&offset=${page * PAGE}&sort=${sort}&only=${only}`,
      ),
    placeholderData: keepPreviousData,
  });
  const set = (name: string, value: string) =>
    setSearch(
      (before) => {
        const next = new URLSearchParams(before);
        if (name !== "page") next.delete("page");
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  const total = list.data?.total ?? 0;
  return (
    <Section
      title="Each call"
      aside={
        <span className="flex flex-wrap items-center gap-3">
          open one to follow its packets
          <DocumentFile path={`/api/runs/${run.id}/capture`} words="Packets, pcap" format="pcap" />
          <FileLink href={`/api/runs/${run.id}/calls.csv`}>CSV</FileLink>
          <FileLink href={`/api/runs/${run.id}/calls.json`}>JSON</FileLink>
        </span>
      }
    >
      <div className="mb-4 flex flex-wrap items-end gap-6">
        <div className="w-60">
          <SelectField
            label="Order"
            value={sort}
            options={SORTS}
            onChange={(value) => set("sort", value === "number" ? "" : value)}
          />
        </div>
        <div className="w-60">
          <SelectField
            label="Show"
            value={only}
            options={FILTERS}
            onChange={(value) => set("only", value === "all" ? "" : value)}
          />
        </div>
        <div className="pb-2">
          <CheckField label="All figures" value={all} onChange={(on) => set("figures", on ? "all" : "")} />
        </div>
      </div>
      {list.data && total === 0 && <p>No call of this run matches.</p>}
      {total > 0 &&
        (all ? (
          <AllFigures run={run} calls={list.data?.calls ?? []} />
        ) : (
          <Few calls={list.data?.calls ?? []} />
        ))}
      <Pager page={page} size={PAGE} total={total} onPage={(i) => set("page", i ? String(i) : "")} />
    </Section>
  );
}

function Few({ calls }: { calls: Call[] }) {
  return (
    <Wide label="Calls">
      <table className="w-full">
        <thead>
          <tr className="text-left text-sm text-soft [&>th]:pr-5 [&>th]:font-normal">
            <th>Call</th>
            <th>Up MOS</th>
            <th>lost · late</th>
            <th>worst second</th>
            <th>delay</th>
            <th className="border-l border-ink pl-5">Down MOS</th>
            <th>lost · late</th>
            <th>worst second</th>
            <th>delay</th>
          </tr>
        </thead>
        <tbody>
          {calls.map((call) => (
            <tr key={call.id} className="hair border-t [&>td]:py-1.5 [&>td]:pr-5">
              <td>
                <CallLink call={call} />
              </td>
              <SideCells side={call.up} />
              <SideCells side={call.down} divided />
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

function CallLink({ call }: { call: Call }) {
  return (
    <Link
      to={`/calls/${call.id}`}
      className="font-semibold underline decoration-hair underline-offset-3 hover:decoration-ink"
    >
      {call.number}
    </Link>
  );
}

function SideCells({ side, divided }: { side: Call["up"]; divided?: boolean }) {
  if (side === null)
    return (
      <td colSpan={4} className={divided ? "border-l border-ink !pl-5 text-soft" : "text-soft"}>
        – no media in this direction
      </td>
    );
  return (
    <>
      <td className={divided ? "border-l border-ink !pl-5" : ""}>
        <span
          className="mr-2 inline-block h-3 w-5 border border-soft align-[-1px]"
          style={{ background: paintMos(side.mos ?? 1) }}
        />
        {side.mos === null ? <span title={side.reason ?? ""}>– {side.reason}</span> : side.mos.toFixed(2)}
      </td>
      <td>
        {side.lost} · {side.late}
      </td>
      <td>{fixed(side.worst_second_mos, 2)}</td>
      <td>{ms(side.delay_p50_ms, 1)}</td>
    </>
  );
}

/** Two lines a call, up over down, with everything that is known of each. */
function AllFigures({ run, calls }: { run: Run; calls: Call[] }) {
  return (
    // Focus lets the keyboard scroll what is wider than the page.
    // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable
    <section className="overflow-x-auto" tabIndex={0} aria-label="All figures of each call">
      <Wide label="Calls">
        <table className="text-sm whitespace-nowrap">
          <thead>
            <tr className="text-left text-soft [&>th]:pr-4 [&>th]:font-normal">
              {[
                "Call",
                "Start",
                "",
                "SSRC",
                "MOS",
                "Wideband MOS",
                "R",
                "Lost",
                "Late",
                "Burst ratio",
                "Longest",
                "Reordered",
              ].map((name) => (
                <th key={name}>{name}</th>
              ))}
              <th>Duplicated</th>
              <th>Peak jitter</th>
              <th>Delay</th>
              <th>Mouth-to-ear</th>
              <th>DSCP sent → received</th>
            </tr>
          </thead>
          <tbody>
            {calls.flatMap((call) =>
              (["up", "down"] as const).map((name) => {
                const side = call[name];
                if (side === null) return null;
                return (
                  <tr
                    key={`${call.id} ${name}`}
                    className={`[&>td]:py-0.5 [&>td]:pr-4 ${name === "up" ? "hair border-t" : ""}`}
                  >
                    <td>{(name === "up" || !call.up) && <CallLink call={call} />}</td>
                    <td>{(name === "up" || !call.up) && clock(call.started_us, run.time_zone)}</td>
                    <td className="text-soft">{name}</td>
                    <td className="font-mono text-[12px]">{side.ssrc.toString(16).padStart(8, "0")}</td>
                    <td className="font-semibold">{fixed(side.mos, 2)}</td>
                    <td>{fixed(side.mos_wide, 2)}</td>
                    <td>{fixed(side.r_factor, 1)}</td>
                    <td>
                      {side.lost}, {pct(side.loss_pct, 2)}
                    </td>
                    <td>{side.late}</td>
                    <td>{fixed(side.burst_ratio, 2)}</td>
                    <td>{side.longest_loss_run}</td>
                    <td>{side.reordered}</td>
                    <td>{side.duplicates}</td>
                    <td>{ms(side.jitter_max_ms, 1)}</td>
                    <td>{ms(side.delay_p50_ms, 2)}</td>
                    <td>{ms(side.mouth_to_ear_ms)}</td>
                    <td>
                      {marking(side.dscp_sent)} →{" "}
                      {Object.entries(side.dscp_received)
                        .map(([mark, n]) => `${marking(Number(mark))} × ${n}`)
                        .join(", ") || "–"}
                    </td>
                  </tr>
                );
              }),
            )}
          </tbody>
        </table>
      </Wide>
    </section>
  );
}
