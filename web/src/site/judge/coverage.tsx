// The site's week hour by hour, as calls have seen it: how often, and under how many concurrent calls.
import { Link } from "react-router";
import type { Model } from "../../api/client";
import { LinkButton } from "../../ui/controls";
import { dateTime } from "../../ui/format";
import { Wide } from "../../ui/wide";

type Site = Model<"SitePage">;
type Hour = Model<"HourView">;

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const HOURS = Array.from({ length: 24 }, (_, hour) => hour);
/** Moments from which on an hour is drawn in full: an hour of one day has six. */
const FULL = 6;

export function Coverage({ site }: { site: Site }) {
  const { hours, business, seen, closing } = site.coverage;
  const at = new Map(hours.map((one) => [one.weekday * 24 + one.hour, one]));
  const unseen = business - seen;
  return (
    <>
      <p className="mb-3 leading-snug">
        <span className="font-semibold">
          {seen} of {business} business hours of the week
        </span>{" "}
        were seen with calls. {most(hours, site.brief.needed_calls)}
      </p>
      <Wide label="Evidence by hour of the week">
        <table className="border-collapse text-center text-xs">
          <thead>
            <tr className="text-soft">
              <th className="pr-3 text-left font-normal">
                <span className="sr-only">Day</span>
              </th>
              {HOURS.map((hour) => (
                <th key={hour} className="w-9 pb-1 font-normal">
                  {hour}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {DAYS.map((name, i) => (
              <tr key={name}>
                <th className="pr-3 text-left text-sm font-normal">{name}</th>
                {HOURS.map((hour) => (
                  <Cell key={hour} day={name} hour={hour} one={at.get((i + 1) * 24 + hour)} />
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <div className="mt-3 flex flex-wrap items-center justify-between gap-4">
        <p className="max-w-3xl text-sm leading-snug text-soft">
          Shade: ten-minute moments with calls, {FULL} and more in full; hatched: business without a call. The
          figure is the most concurrent calls. Framed: business hours.
        </p>
        {(unseen > 0 || site.verdict.missing.length > 0) && !site.archived && (
          <span className="flex gap-3">
            <LinkButton to={`/sites/${site.slug}/watch`}>Place calls beside the watch</LinkButton>
            {!closing && <LinkButton to={`/sites/${site.slug}/load`}>Plan calls</LinkButton>}
          </span>
        )}
      </div>
      {closing && (
        <div className="hair mt-4 flex flex-wrap items-center justify-between gap-4 border-t pt-3">
          <p className="max-w-3xl leading-snug">
            <span className="font-semibold">What would close it:</span> {closing.says}
          </p>
          {closing.under_way_us === null ? (
            <LinkButton to={`/sites/${site.slug}/load?plan=closing#plan`}>Plan these runs</LinkButton>
          ) : (
            <span>
              A plan gathers it; next start{" "}
              <Link to={`/sites/${site.slug}/load`} className="underline underline-offset-3">
                {dateTime(closing.under_way_us, site.brief.time_zone)}
              </Link>
            </span>
          )}
        </div>
      )}
    </>
  );
}

/** How loaded those hours were. */
function most(hours: Hour[], needed: number): string {
  const business = hours.filter((one) => one.business);
  const under = business.filter((one) => one.most >= needed).length;
  const top = Math.max(0, ...business.map((one) => one.most));
  if (top === 0) return "";
  return `The ${needed} concurrent calls of the brief were held in ${under} of them${under === 0 ? `; ${top} at most` : ""}.`;
}

function Cell({ day, hour, one }: { day: string; hour: number; one: Hour | undefined }) {
  const words = !one
    ? "no business, no call"
    : one.moments === 0
      ? "business, no call"
      : `${one.moments} moments on ${one.days} ${one.days === 1 ? "day" : "days"}, ${one.most} concurrent at most`;
  const shade = one?.moments ? 6 + 26 * Math.min(1, one.moments / FULL) : 0;
  return (
    <td
      title={`${day} ${hour}:00–${hour + 1}:00: ${words}`}
      className={`h-6 w-9 border ${one?.business ? "border-ink" : "border-transparent"} ${one?.business && !one.moments ? "hatched-cell" : ""}`}
      style={shade ? { background: `color-mix(in srgb, var(--ink) ${shade}%, transparent)` } : undefined}
    >
      <span className="sr-only">{words}: </span>
      {one?.moments ? one.most : ""}
    </td>
  );
}
