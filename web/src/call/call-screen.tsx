// One call, all the way down: what the listener got second by second, where each packet went,
// and buffer and codec as controls that judge the same packets again.
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { get, type Model } from "../api/client";
import { paintMos } from "../charts/depth";
import { PacketPlot } from "../charts/packet-plot";
import { markWords, stretchName, timeMarks } from "../charts/sounding-geometry";
import { Notes, useNotes } from "../site/judge/notes";
import { useAddress } from "../ui/address";
import { INPUT, Note, Section } from "../ui/controls";
import { DepthSlider } from "../ui/depth-slider";
import { duration, fixed, marking, ms, pct, withUnit } from "../ui/format";
import { useKey } from "../ui/keys";
import { Pending, Trail } from "../ui/screen";
import { Term } from "../ui/term";
import { HearIt } from "./hear-it";
import { Calculating, Packets, useJudged } from "./judged";

type Call = Model<"CallPage">;
type Side = Model<"CallSide">;

export function CallScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const navigate = useNavigate();
  const buffer = Number(search.get("buffer") ?? 60);
  const codec = search.get("codec") ?? "";
  const adaptive = search.get("adaptive") === "1";
  const path = `/api/calls/${id}?buffer_ms=${buffer}${codec ? `&codec=${codec}` : ""}${adaptive ? "&adaptive=true" : ""}`;
  const { page, shown, error, isOfBefore } = useJudged("CallPage", id, path);
  // To the neighbour in the same run, with the same settings; at its ends nothing, and nothing while the call before
  // is still shown: its neighbours are others.
  const notes = useNotes(page?.site_slug ?? "");
  const to = (other: number | null | undefined) =>
    other && !isOfBefore && navigate(`/calls/${other}?${search}`);
  useKey("[", () => to(page?.previous_id));
  useKey("]", () => to(page?.next_id));
  if (!page) return <Pending what="the call" error={error} />;
  const title = `Call ${page.number}${page.calls > 1 ? ` of ${page.calls}` : ""}`;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/sites/${page.site_slug}`, page.site_name],
          [`/runs/${page.run_id}`, "Run"],
        ]}
        title={title}
      />
      <div className="mt-2 flex flex-wrap items-end justify-between gap-8">
        <div>
          <h1 className="text-3xl tracking-tight">{title}</h1>
          <p className="mt-1 text-soft">
            {page.started_local} · {page.codec_title}, a packet every {withUnit(page.ptime_ms, "ms")} ·{" "}
            {page.mos_scale}
            {page.clock && ` · ${page.clock}`}
            {page.clock_detail && <span className="block text-sm">{page.clock_detail}</span>}
          </p>
        </div>
        <div className="flex flex-wrap items-center gap-3">
          {page.calls > 1 && (
            <span className="flex flex-wrap gap-4 text-sm">
              <Neighbour to={page.previous_id} search={search.toString()}>
                ‹ Previous call
              </Neighbour>
              <Neighbour to={page.next_id} search={search.toString()}>
                Next call ›
              </Neighbour>
            </span>
          )}
          {shown?.up && <Packets of="calls" page={page} way="up" />}
          {shown?.down && <Packets of="calls" page={page} way="down" />}
        </div>
      </div>
      {page.tainted.length > 0 && (
        <div className="mt-4">
          <Note>Invalid: {page.tainted.join(" ")}</Note>
        </div>
      )}
      <Again page={page} buffer={buffer} codec={codec} adaptive={adaptive} set={set} />
      <Calculating page={page} shown={shown} />
      {shown?.up && (
        <SidePart title="Upload: what the far end received" way="up" side={shown.up} page={shown} />
      )}
      {shown?.down && (
        <SidePart title="Download: what the site received" way="down" side={shown.down} page={shown} />
      )}
      <Section title="Notes">
        <Notes
          slug={page.site_slug}
          zone={page.time_zone}
          notes={notes.filter((one) => one.call_id === page.id)}
          pin={{ call_id: page.id }}
        />
      </Section>
    </>
  );
}

function Neighbour(props: { to: number | null; search: string; children: ReactNode }) {
  if (props.to === null) return <span className="text-soft">{props.children}</span>;
  return (
    <Link to={`/calls/${props.to}?${props.search}`} className="underline underline-offset-3">
      {props.children}
    </Link>
  );
}

function Again(props: {
  page: Call;
  buffer: number;
  codec: string;
  adaptive: boolean;
  set: (name: string, value: string) => void;
}) {
  const { page, buffer, codec, adaptive, set } = props;
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const fitting = codecs.data?.codecs.filter((c) => c.intervals_ms.includes(page.ptime_ms)) ?? [];
  return (
    <div className="mt-5 grid lg:grid-cols-[150px_1fr_300px] items-center gap-7 border-y border-hair py-3">
      <p className="leading-snug font-semibold">Recalculate with other settings</p>
      <DepthSlider
        label="Listener’s buffer"
        value={buffer}
        most={400}
        step={5}
        onChange={(ms) => set("buffer", ms === 60 ? "" : String(ms))}
        words={(ms) => (adaptive ? `up to ${withUnit(ms, "ms")}` : withUnit(ms, "ms"))}
      >
        <label className="flex items-center gap-1.5 text-ink">
          <input
            type="checkbox"
            className="h-4 w-4 accent-[var(--ink)]"
            checked={adaptive}
            onChange={(event) => set("adaptive", event.target.checked ? "1" : "")}
          />
          adaptive
        </label>
      </DepthSlider>
      <label className="block">
        <span className="text-sm text-soft">As if the codec were</span>
        <select
          className={INPUT}
          value={codec || page.codec}
          onChange={(e) => set("codec", e.target.value === page.codec ? "" : e.target.value)}
        >
          {fitting.map((c) => (
            <option key={c.name} value={c.name}>
              {c.title}
              {c.origin === "planning" ? " (planning value)" : ""}
            </option>
          ))}
        </select>
      </label>
    </div>
  );
}

/** The settings that the page is judged by, as an address has them. */
function judgedBy(page: Call): string {
  return `buffer_ms=${page.buffer_ms}&codec=${page.judged_as}&adaptive=${page.adaptive}`;
}

/** Without its delay a MOS is what the call had at best. */
function atBest(f: Side["figures"]): boolean {
  return f.mos !== null && f.mouth_to_ear_ms === null;
}

function SidePart(props: { title: string; way: "up" | "down"; side: Side; page: Call }) {
  const { title, way, side, page } = props;
  const f = side.figures;
  return (
    <section className="mt-8" aria-label={title}>
      <div className="rule flex flex-wrap items-baseline justify-between gap-6 pt-2">
        <h2 className="text-lg">{title}</h2>
        <p className="text-sm">{side.why}</p>
      </div>
      <div className="mt-2 grid lg:grid-cols-[330px_1fr] gap-6">
        <div>
          <p className="text-3xl font-semibold">
            {fixed(f.mos, 2)}
            {atBest(f) && <span className="ml-1.5 text-base font-normal">at best</span>}
            <span className="ml-1.5 text-base font-normal text-soft">
              <Term of="mos" /> · R {fixed(f.r_factor, 0)} · {fixed(f.mos_wide, 2)} <Term of="mosWide" />
            </span>
          </p>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5 text-sm leading-6 [&>dt]:text-soft">
            <dt>
              <Term of="loss" />
            </dt>
            <dd>
              {f.lost} of {f.sent}, {pct(f.loss_pct, 2)}
            </dd>
            <dt>
              <Term of="late" />
            </dt>
            <dd>
              {f.late}, together {pct(f.effective_loss_pct, 2)}
            </dd>
            <dt>
              <Term of="burst" />
            </dt>
            <dd>
              {fixed(side.effective_burst_ratio, 2)}, longest loss {f.longest_loss_run}
            </dd>
            <dt>
              <Term of="rfc3611" />
            </dt>
            <dd>{side.bursts ? burstWords(side.bursts) : "–"}</dd>
            <dt>
              <Term of="delay" />
            </dt>
            <dd>
              {ms(f.delay_p50_ms, 1)}, mouth-to-ear {ms(f.mouth_to_ear_ms)}
              {page.adaptive && `, buffer ${ms(side.mean_depth_ms)}`}
            </dd>
            <dt>
              <Term of="pdv" />
            </dt>
            <dd>
              {ms(f.pdv_p95_ms, 1)}, most {ms(f.pdv_max_ms)}
            </dd>
            <dt>
              <Term of="jitter" />
            </dt>
            <dd>{ms(f.jitter_max_ms, 1)} at most</dd>
            <dt>
              <Term of="ipdv" />
            </dt>
            <dd>{ms(side.ipdv_p99_ms, 1)}</dd>
            <dt>
              <Term of="marking" />
            </dt>
            <dd>
              {marking(f.dscp_sent)} →{" "}
              {Object.keys(f.dscp_received)
                .map((d) => marking(Number(d)))
                .join(", ") || "–"}
            </dd>
            <dt>Reordered, duplicated</dt>
            <dd>
              {f.reordered} reordered, {f.duplicates} duplicated
            </dd>
          </dl>
        </div>
        <div>
          <PacketPlot side={side} label={title} />
          <Seconds side={side} target={page.target_mos} />
        </div>
      </div>
      {side.sound && (
        <HearIt
          sound={side.sound}
          path={`/api/calls/${page.id}/${way}.wav?${judgedBy(page)}`}
          site={page.site_slug}
          call={page.id}
          way={way}
        />
      )}
    </section>
  );
}

function burstWords(bursts: NonNullable<Side["bursts"]>): string {
  if (bursts.burst_ms === 0) return "no burst";
  const gap = (bursts.gap_ms / 1000).toFixed(1);
  const burst =
    bursts.burst_ms < 10_000 ? ms(bursts.burst_ms) : withUnit((bursts.burst_ms / 1000).toFixed(1), "s");
  return `${burst} at ${pct(bursts.burst_density_pct, 0)}, gaps ${withUnit(gap, "s")}`;
}

/** Each second's MOS as a cell of depth, or the worst of each stretch's; a call with one dead second is not a good call. */
function Seconds({ side, target }: { side: Side; target: number }) {
  const { seconds, seconds_below: below, stretch_s: length } = side;
  const share = `${below} of ${seconds}`;
  return (
    <div className="mt-2 pr-16 pl-9">
      <div className="flex h-5 gap-px" role="img" aria-label={`${share} seconds below ${target} MOS`}>
        {side.stretches.map((one, i) => (
          <span
            key={i}
            className="h-full"
            style={{ background: paintMos(one.mos), flex: `${Math.min(length, seconds - i * length)} 1 0` }}
            title={`${stretchName(i, length, seconds)}: ${length > 1 ? "worst second " : ""}${one.mos.toFixed(2)} MOS, ${length > 1 ? "in all " : ""}${one.lost} lost, ${one.late} late`}
          />
        ))}
      </div>
      <div className="relative h-5 text-sm text-soft">
        {timeMarks(seconds).map((at) => (
          <span
            key={at}
            className={at === 0 ? "absolute" : "absolute -translate-x-1/2"}
            style={{ left: `${(100 * at) / Math.max(1, seconds)}%` }}
          >
            {markWords(at, seconds)}
          </span>
        ))}
      </div>
      <p className="mt-1 text-sm text-soft">
        {length === 1
          ? `Second by second: ${share}`
          : `Each cell is the worst second of ${duration(length)}. ${share} seconds`}{" "}
        below {target.toFixed(1)} MOS, worst {fixed(side.figures.worst_second_mos, 2)}
      </p>
    </div>
  );
}
