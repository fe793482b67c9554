// What the newest test found, as plain text for somebody's own mail program.
import type { Model } from "../api/client";
import { dateTime, fixed, ms, pct, plural } from "../ui/format";
import { BY_WAY } from "./by-way";

type Page = Model<"TestPage">;
type Run = Model<"SelfRun">;
type Way = Model<"SelfRunDirection">;

/** An address (RFC 6068) that opens a letter with the result in it; null while there is none. */
export function letterWith(page: Page, verdict: (run: Run) => string): string | null {
  const run = page.runs.find((one) => one.state === "done" || one.state === "failed");
  if (!run) return null;
  const lines = [
    `${dateTime(run.at_us, page.time_zone)}: ${plural(run.calls, "call")} to ${run.far_end}${BY_WAY[run.way]}`,
    "",
    run.state === "done" ? verdict(run) : run.failure,
    ...(run.state === "done" ? [figures("From here", run.up), figures("To here", run.down)] : []),
    ...run.doubts,
    "",
    ...run.reach.says,
    "",
    location.href,
  ];
  const subject = `Test calls from ${page.name}, ${page.site}`;
  return `mailto:?subject=${encodeURIComponent(subject)}&body=${encodeURIComponent(lines.join("\r\n"))}`;
}

function figures(name: string, way: Way | null): string {
  return `${name}: loss ${pct(way?.loss_pct)}, delay ${ms(way?.delay_ms)}, jitter ${ms(way?.jitter_ms)}, MOS ${fixed(way?.mos, 1)}`;
}
