// One stream of an imported capture: whose it is, what it suffered, and what it is to be judged as.
import type { Model } from "../../api/client";
import { paintMos } from "../../charts/depth";
import { count, dateTime, fixed, marking, ms, pct, withUnit } from "../../ui/format";
import { Term } from "../../ui/term";

type Stream = Model<"ImportedStream">;

interface StreamProps {
  number: number;
  stream: Stream;
  timeZone: string;
  codecs: readonly (readonly [string, string])[];
  name: (codec: string) => void;
  others: number[];
  pair: (other: number) => void;
}

export function StreamPart({ number, stream, timeZone, codecs, name, others, pair }: StreamProps) {
  const marks = Object.entries(stream.dscp_received).map(
    ([mark, n]) => `${marking(Number(mark))} × ${count(n)}`,
  );
  return (
    <article
      className="hair grid gap-x-6 border-b py-4 sm:grid-cols-[150px_1fr]"
      aria-label={`Stream ${number}, SSRC ${stream.ssrc}`}
    >
      <div>
        <p className="text-3xl leading-tight font-semibold">
          {fixed(stream.mos, 2)}
          <span className="ml-1.5 text-base font-normal text-soft">
            <Term of="mos" />
          </span>
        </p>
        <p className="text-sm text-soft">
          R {fixed(stream.r_factor, 1)} · {stream.mos_scale}
        </p>
      </div>
      <div>
        <p>
          <span className="text-soft">{number} · </span>
          <span className="font-mono text-[13px] break-all">{stream.source}</span> →{" "}
          <span className="font-mono text-[13px] break-all">{stream.destination}</span>
        </p>
        <p className="text-sm text-soft">
          SSRC {stream.ssrc.toString(16).padStart(8, "0")} · payload type {stream.payload_type}
          {stream.codec_title ? `, ${stream.codec_title}` : ""} · a{" "}
          {stream.media === "video" ? "picture" : "packet"} every {withUnit(stream.ptime_ms.toFixed(1), "ms")}{" "}
          · {dateTime(stream.first_us, timeZone)}
          {stream.skew_ppm !== null && ` · its clock drifts ${stream.skew_ppm.toFixed(1)} ppm, compensated`}
        </p>
        {stream.reason && <p className="mt-1">{stream.reason}</p>}
        {stream.notes?.map((note) => (
          <p key={note} className="mt-1">
            {note}
          </p>
        ))}
        <p className="mt-1">
          {count(stream.sent)} sent, {count(stream.lost)} lost ({pct(stream.loss_pct, 2)},{" "}
          {stream.longest_loss_run} in a row), {count(stream.late)} late · <Term of="jitter" /> up to{" "}
          {ms(stream.jitter_max_ms, 1)} · <Term of="pdv" /> 95th percentile {ms(stream.pdv_p95_ms, 1)},
          maximum {ms(stream.pdv_max_ms)} · {stream.reordered} reordered, {stream.duplicates} duplicated ·{" "}
          {marks.join(", ")}
        </p>
        {(codecs.length > 0 || others.length > 0) && (
          <div className="mt-2 flex flex-wrap gap-4 text-sm">
            {codecs.length > 0 && (
              <label>
                <span className="text-soft">Codec </span>
                <select
                  className="border border-soft bg-raised px-2 py-1"
                  value={stream.codec ?? ""}
                  onChange={(event) => name(event.target.value)}
                >
                  <option value="">not known</option>
                  {codecs.map(([key, words]) => (
                    <option key={key} value={key}>
                      {words}
                    </option>
                  ))}
                </select>
              </label>
            )}
            {others.length > 0 && (
              <label>
                <span className="text-soft">Other direction of the same call </span>
                <select
                  className="border border-soft bg-raised px-2 py-1"
                  value=""
                  onChange={(event) => pair(Number(event.target.value))}
                >
                  <option value="">none</option>
                  {others.map((other) => (
                    <option key={other} value={other}>
                      stream {other + 1}
                    </option>
                  ))}
                </select>
              </label>
            )}
          </div>
        )}
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
