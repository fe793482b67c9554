// Stretches that would have spoiled calls, newest first, each with what calls that were placed in it came to.
import { useState } from "react";
import type { Model } from "../../api/client";
import { LEGS } from "../../charts/leg-sheet";
import { Button, Section } from "../../ui/controls";
import { dateTime, duration, fixed, ms, pct } from "../../ui/format";
import { Wide } from "../../ui/wide";

type Page = Model<"WatchPage">;
type Episode = Model<"EpisodeView">;

const WAYS = { up: "upload", down: "download", both: "both ways" } as const;
const KINDS = { outage: "outage", loss: "loss", delay: "added delay" } as const;
const AT_FIRST = 15;

export function Episodes(props: {
  page: Page;
  episodes: Episode[];
  total: number;
  onOpen: (one: Episode) => void;
}) {
  const { page, episodes, total, onOpen } = props;
  const [all, setAll] = useState(false);
  if (total === 0) return null;
  return (
    <Section
      title="Episodes"
      aside={total > episodes.length ? `the newest ${episodes.length} of ${total}` : "newest first"}
    >
      <Wide label="Episodes">
        <table className="w-full [&_td]:pr-4 [&_th]:pr-4 [&_th]:text-left">
          <thead>
            <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
              <th>Began</th>
              <th>Lasted</th>
              <th>Leg</th>
              <th>What</th>
              <th>Lost</th>
              <th>Added, median and 95th percentile</th>
              <th>A call in it</th>
              <th>Calls placed in it</th>
            </tr>
          </thead>
          <tbody>
            {(all ? episodes : episodes.slice(0, AT_FIRST)).map((one) => (
              <tr key={`${one.from_us}${one.leg}${one.seen_at}`} className="hair border-t [&>td]:py-1.5">
                <td>
                  <button type="button" className="underline underline-offset-3" onClick={() => onOpen(one)}>
                    {dateTime(one.from_us, page.time_zone)}
                  </button>
                </td>
                <td>{duration((one.until_us - one.from_us) / 1e6)}</td>
                <td>
                  {one.leg === "unknown" ? "cannot tell" : LEGS[one.leg]}{" "}
                  {one.leg !== "unknown" && <span className="text-soft">{pct(100 * one.certainty, 0)}</span>}
                </td>
                <td>
                  {KINDS[one.kind]}
                  {one.direction && <span className="text-soft"> {WAYS[one.direction]}</span>}
                </td>
                <td>{pct(one.loss_pct, 0)}</td>
                <td>
                  {ms(one.added_ms)}, {ms(one.added_p95_ms)}
                </td>
                <td>{fixed(one.mos, 2)} MOS</td>
                <td>
                  {one.calls === 0
                    ? "none"
                    : `${one.calls_below} of ${one.calls} below ${fixed(page.target_mos, 1)} MOS`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {!all && episodes.length > AT_FIRST && (
        <p className="mt-3">
          <Button onClick={() => setAll(true)}>Show {episodes.length - AT_FIRST} more</Button>
        </p>
      )}
    </Section>
  );
}
