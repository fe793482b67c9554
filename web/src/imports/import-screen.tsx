// One file from elsewhere: its streams second by second, or its echoes in time.
import { useQuery } from "@tanstack/react-query";
import { get, type Model } from "../api/client";
import { Note, Section } from "../shared/controls";
import { paintMos } from "../shared/depth";
import { count, dateTime, fixed, marking, ms, pct, plural } from "../shared/format";
import { Pending, Trail } from "../shared/screen";
import { Term } from "../shared/term";
import { EchoPlot } from "./echo-plot";

type Stream = Model<"ImportedStream">;

export function ImportScreen({ id }: { id: string }) {
  const answer = useQuery({
    queryKey: ["import", id],
    queryFn: () => get("ImportPage", `/api/imports/${id}`),
  });
  if (!answer.data) return <Pending what="the file" error={answer.error} />;
  const page = answer.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Engagements"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          [`/sites/${page.site_slug}`, page.site_name],
          [`/sites/${page.site_slug}/imports`, "Imported files"],
        ]}
        title={page.name}
      />
      <h1 className="mt-2 text-3xl tracking-tight break-all">{page.name}</h1>
      <p className="mt-1 text-soft">
        {page.kind}, brought {dateTime(page.created_us, page.time_zone)} · {page.note}
      </p>
      {page.cut_short && (
        <div className="mt-4">
          <Note>The file ends in the middle of a packet. What came before it is shown.</Note>
        </div>
      )}
      {page.kind === "capture" && (
        <Section
          title={plural(page.streams.length, "RTP stream")}
          aside={`found in ${count(page.packets)} packets, longest first · scale ${page.mos_scale}`}
        >
          {page.streams.map((stream) => (
            <StreamPart
              key={`${stream.source} ${stream.destination} ${stream.ssrc}`}
              stream={stream}
              timeZone={page.time_zone}
            />
          ))}
        </Section>
      )}
      {page.echo && <Echo echo={page.echo} />}
    </>
  );
}

function StreamPart({ stream, timeZone }: { stream: Stream; timeZone: string }) {
  const marks = Object.entries(stream.dscp_received).map(
    ([mark, n]) => `${marking(Number(mark))} × ${count(n)}`,
  );
  return (
    <article
      className="hair grid grid-cols-[150px_1fr] gap-6 border-b py-4"
      aria-label={`SSRC ${stream.ssrc}`}
    >
      <div>
        <p className="text-3xl leading-tight font-semibold">
          {fixed(stream.mos, 2)}
          <span className="ml-1.5 text-base font-normal text-soft">
            <Term of="mos" />
          </span>
        </p>
        <p className="text-sm text-soft">R {fixed(stream.r_factor, 1)}</p>
      </div>
      <div>
        <p>
          <span className="font-mono text-[13px]">{stream.source}</span> →{" "}
          <span className="font-mono text-[13px]">{stream.destination}</span>
        </p>
        <p className="text-sm text-soft">
          SSRC {stream.ssrc.toString(16).padStart(8, "0")} · payload type {stream.payload_type}
          {stream.codec_title ? `, ${stream.codec_title}` : ""} · a packet every {stream.ptime_ms.toFixed(1)}{" "}
          ms · {dateTime(stream.first_us, timeZone)}
          {stream.skew_ppm !== null && ` · its clock drifts ${stream.skew_ppm.toFixed(1)} ppm, taken out`}
        </p>
        {stream.reason && <p className="mt-1">{stream.reason}</p>}
        <p className="mt-1">
          {count(stream.sent)} sent, {count(stream.lost)} lost ({pct(stream.loss_pct, 2)},{" "}
          {stream.longest_loss_run} in a row), {count(stream.late)} late · <Term of="jitter" /> up to{" "}
          {ms(stream.jitter_max_ms, 1)} · <Term of="pdv" /> {ms(stream.pdv_p95_ms, 1)}, most{" "}
          {ms(stream.pdv_max_ms)} · {stream.reordered} reordered, {stream.duplicates} duplicated ·{" "}
          {marks.join(", ")}
        </p>
        {stream.seconds.length > 0 && (
          <div
            className="mt-2 flex h-5"
            role="img"
            aria-label={`${stream.seconds.length} seconds, the worst at ${Math.min(...stream.seconds.map((s) => s.mos)).toFixed(2)} MOS`}
          >
            {stream.seconds.map((second, i) => (
              <span
                key={i}
                className="h-full flex-1"
                style={{ background: paintMos(second.mos) }}
                title={`second ${i + 1}: ${second.mos.toFixed(2)} MOS, ${second.lost} lost, ${second.late} late`}
              />
            ))}
          </div>
        )}
      </div>
    </article>
  );
}

function Echo({ echo }: { echo: Model<"EchoView"> }) {
  return (
    <Section
      title={`Ping to ${echo.host ?? "an unnamed host"}`}
      aside={`${echo.system} log, ${echo.stamped ? "times as stamped" : "no times in it: one a second is assumed"}`}
    >
      <p className="text-xl font-semibold">
        {count(echo.lost)} of {count(echo.sent)} unanswered, {pct(echo.loss_pct, 2)}
        {echo.longest_loss_run > 1 && `, ${echo.longest_loss_run} in a row`}
      </p>
      <p className="mt-1">
        Round trip {ms(echo.rtt_min_ms, 1)} at least, {ms(echo.rtt_p50_ms, 1)} median,{" "}
        {ms(echo.rtt_p95_ms, 1)} 95th percentile, {ms(echo.rtt_max_ms, 1)} at most
      </p>
      <EchoPlot echo={echo} />
    </Section>
  );
}
