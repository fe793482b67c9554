// One video stream: the frames a viewer missed, second by second, and the two choices that judge the same packets again.
import type { Model } from "../api/client";
import { paintScore } from "../charts/depth";
import { FrameStrip } from "../charts/frame-strip";
import { MissingFrames } from "../charts/missing-frames";
import { useAddress } from "../ui/address";
import { Note } from "../ui/controls";
import { DepthSlider } from "../ui/depth-slider";
import { fixed, marking, ms, pct, plural, withUnit } from "../ui/format";
import { Pending, Trail } from "../ui/screen";
import { Term } from "../ui/term";
import { Calculating, Packets, useJudged } from "./judged";

type Page = Model<"VideoPage">;
type Side = Model<"PictureSide">;

const USUAL_MS = 100;

export function VideoScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const buffer = Number(search.get("buffer") ?? USUAL_MS);
  const refresh = search.get("refresh") ?? "requested";
  const path = `/api/videos/${id}?buffer_ms=${buffer}&refresh=${refresh}`;
  const { page, shown, error } = useJudged("VideoPage", id, path);
  if (!page) return <Pending what="the video stream" error={error} />;
  const title = `Video stream ${page.number}: ${page.profile_title}`;
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
            {page.started_local} · {page.width} × {page.height}, {page.frames_per_s} frames a second,{" "}
            {withUnit(page.kbps, "kbit/s")}, a refresh frame every {withUnit(page.refresh_s, "s")} · made of
            packets, no camera
          </p>
        </div>
        <div className="flex flex-wrap gap-3">
          {shown?.up && <Packets of="videos" page={page} way="up" />}
          {shown?.down && <Packets of="videos" page={page} way="down" />}
        </div>
      </div>
      {page.tainted.length > 0 && (
        <div className="mt-4">
          <Note>Invalid: {page.tainted.join(" ")}</Note>
        </div>
      )}
      <Again page={page} buffer={buffer} set={set} />
      <Calculating page={page} shown={shown} />
      {shown?.up && <Way title="Upload: what the far end received" side={shown.up} page={shown} />}
      {shown?.down && <Way title="Download: what the site received" side={shown.down} page={shown} />}
    </>
  );
}

function Again(props: { page: Page; buffer: number; set: (name: string, value: string) => void }) {
  const { page, buffer, set } = props;
  const asked = page.refresh === "requested";
  return (
    <div className="mt-5 grid lg:grid-cols-[150px_1fr_auto] items-center gap-7 border-y border-hair py-3">
      <p className="leading-snug font-semibold">Recalculate with other settings</p>
      <DepthSlider
        label="Viewer’s buffer"
        value={buffer}
        most={500}
        step={10}
        onChange={(ms) => set("buffer", ms === USUAL_MS ? "" : String(ms))}
      />
      <fieldset>
        <legend className="text-sm text-soft">Recovery of a broken picture</legend>
        <div className="mt-0.5 flex">
          {(
            [
              [true, `when asked for, ${withUnit(Math.round(page.mends_after_ms), "ms")} on`],
              [false, `at refresh frames, every ${withUnit(page.refresh_s, "s")}`],
            ] as const
          ).map(([value, words]) => (
            <button
              key={words}
              type="button"
              aria-pressed={value === asked}
              onClick={() => set("refresh", value ? "" : "interval")}
              className={`-ml-px border border-ink px-3 py-1.5 first:ml-0 ${value === asked ? "bg-ink text-paper" : "bg-raised"}`}
            >
              {words}
            </button>
          ))}
        </div>
      </fieldset>
    </div>
  );
}

function Way({ title, side, page }: { title: string; side: Side; page: Page }) {
  const f = side.figures;
  const missing = f.frames - f.shown;
  return (
    <section className="mt-8" aria-label={title}>
      <div
        className="flex flex-wrap items-baseline justify-between gap-6 border-t-4 pt-2"
        style={{ borderColor: paintScore(f.score ?? 1) }}
      >
        <h2 className="text-lg whitespace-nowrap">{title}</h2>
        <p className="text-sm">{side.why}</p>
      </div>
      <div className="mt-2 grid lg:grid-cols-[330px_1fr] gap-6">
        <div>
          <p className="text-3xl font-semibold">
            {fixed(f.score, 2)}
            <span className="ml-1.5 text-base font-normal text-soft">
              <Term of="picture" /> · {page.target_picture.toFixed(1)} required
            </span>
          </p>
          <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-3 gap-y-0.5 text-sm leading-6 [&>dt]:text-soft">
            <dt>
              <Term of="wholeFrames" />
            </dt>
            <dd>
              {f.whole} of {f.frames}, {pct(f.frames ? (100 * f.whole) / f.frames : null, 1)}
            </dd>
            <dt>Shown</dt>
            <dd>
              {fixed(f.mean_fps, 1)} a second, worst {f.worst_second_fps ?? "–"}
            </dd>
            <dt>
              <Term of="freeze" />
            </dt>
            <dd>
              {f.freezes === 0
                ? "none"
                : `${f.freezes}, ${withUnit((f.frozen_ms / 1000).toFixed(1), "s")}, longest ${withUnit((f.longest_freeze_ms / 1000).toFixed(1), "s")}`}
            </dd>
            <dt>
              <Term of="loss" />
            </dt>
            <dd>
              {f.lost} of {f.sent} packets, {pct(f.loss_pct, 2)}
            </dd>
            <dt>
              <Term of="late" />
            </dt>
            <dd>{plural(f.late, "packet")}</dd>
            <dt>
              <Term of="delay" />
            </dt>
            <dd>
              {ms(f.delay_p50_ms, 1)}, varying {ms(f.pdv_p95_ms, 1)}
            </dd>
            <dt>
              <Term of="marking" />
            </dt>
            <dd>
              {marking(f.dscp_sent)} →{" "}
              {Object.keys(f.dscp_received)
                .map((d) => marking(Number(d)))
                .join(", ") || "–"}
            </dd>
          </dl>
        </div>
        <MissingFrames
          side={side}
          framesPerSecond={page.frames_per_s}
          label={`${title}: ${missing} of ${f.frames} frames were not shown`}
        />
      </div>
      {side.strip && missing > 0 && (
        <FrameStrip strip={side.strip} framesPerSecond={page.frames_per_s} label={title} />
      )}
    </section>
  );
}
