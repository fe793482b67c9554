// The video streams of a run: which frames came whole, where the picture froze, and the score of each.
import { Link } from "react-router";
import type { Model } from "../api/client";
import { paintScore } from "../charts/depth";
import { Section } from "../ui/controls";
import { fixed, ms, withUnit } from "../ui/format";
import { Term } from "../ui/term";
import { Wide } from "../ui/wide";

type Run = Model<"RunPage">;
type Stream = Model<"VideoLine">;

export function VideoStreams({ run }: { run: Run }) {
  const good = run.streams.filter((stream) => stream.good).length;
  return (
    <Section
      title="Each video stream"
      aside={`${good} of ${run.streams.length} reached a picture score of ${run.target_picture.toFixed(1)}`}
    >
      <Wide label="Video streams">
        <table className="w-full">
          <thead>
            <tr className="text-left text-sm text-soft [&>th]:pr-5 [&>th]:font-normal">
              <th>Stream</th>
              <th />
              <th>
                <Term of="picture" />
              </th>
              <th>
                <Term of="wholeFrames" />
              </th>
              <th>shown a second</th>
              <th>worst second</th>
              <th>
                <Term of="freeze" />
              </th>
              <th>packets lost · late</th>
              <th>delay</th>
            </tr>
          </thead>
          <tbody>
            {run.streams.flatMap((stream) =>
              (["up", "down"] as const).map((way) => (
                <Way key={`${stream.id} ${way}`} stream={stream} way={way} />
              )),
            )}
          </tbody>
        </table>
      </Wide>
    </Section>
  );
}

function Way({ stream, way }: { stream: Stream; way: "up" | "down" }) {
  const side = stream[way];
  if (side === null) return null;
  const first = way === "up" || stream.up === null;
  return (
    <tr className={`[&>td]:py-1 [&>td]:pr-5 ${first ? "hair border-t" : ""}`}>
      <td>
        {first && (
          <Link
            to={`/videos/${stream.id}`}
            className="font-semibold underline decoration-hair underline-offset-3 hover:decoration-ink"
          >
            {stream.number}, {stream.title}
          </Link>
        )}
      </td>
      <td className="text-soft">{way}</td>
      <td>
        <span
          className="mr-2 inline-block h-3 w-5 border border-soft align-[-1px]"
          style={{ background: paintScore(side.score) }}
        />
        {fixed(side.score, 2)}
      </td>
      {side.reason ? (
        <td colSpan={6}>{side.reason}</td>
      ) : (
        <>
          <td>
            {side.whole} of {side.frames}
          </td>
          <td>
            {fixed(side.mean_fps, 1)} of {stream.frames_per_s}
          </td>
          <td>{side.worst_second_fps ?? "–"}</td>
          <td>
            {side.freezes === 0
              ? "none"
              : `${side.freezes}, ${withUnit((side.frozen_ms / 1000).toFixed(1), "s")}`}
          </td>
          <td>
            {side.lost} · {side.late}
          </td>
          <td>{ms(side.delay_p50_ms, 1)}</td>
        </>
      )}
    </tr>
  );
}
