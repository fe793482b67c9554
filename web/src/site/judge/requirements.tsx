// Each requirement of the brief: shown, shown not, or open, with its figures and what would close it.
import type { Model } from "../../api/client";
import { plural } from "../../ui/format";
import { StateMark } from "../../ui/state-mark";
import { Wide } from "../../ui/wide";

type Site = Model<"SitePage">;

const WORDS = { shown: "shown", "shown not": "not met", open: "open" } as const;

export function Requirements({ site }: { site: Site }) {
  const { evidence, verdict } = site;
  return (
    <>
      <p className="mb-3 text-sm text-soft">
        A call is acceptable when each direction meets: {site.brief.acceptable_words}.
      </p>
      <Wide label="Requirements">
        <table className="w-full">
          <thead className="sr-only">
            <tr>
              <th>Answer</th>
              <th>Requirement</th>
              <th>Evidence</th>
            </tr>
          </thead>
          <tbody>
            {site.requirements.map((one) => (
              <tr key={one.key} className="hair border-b align-top first:border-t [&>*]:py-2 [&>*]:pr-6">
                <td className="w-28 whitespace-nowrap">
                  <StateMark state={one.state} />
                  <span className="ml-2 font-semibold">{WORDS[one.state]}</span>
                </td>
                <th className="w-80 text-left leading-snug font-semibold">
                  {one.title}
                  <span className="block text-sm font-normal text-soft">
                    {one.stops ? "calls depend on it" : "a condition"}
                  </span>
                </th>
                <td className="text-sm leading-snug">
                  {one.says}
                  {one.closes && (
                    <span className="mt-0.5 block">
                      <span className="text-soft">To close it:</span> {one.closes}
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <p className="mt-3 text-sm leading-snug">
        Evidence: {plural(evidence.days, "day")} ({evidence.required_days} required),{" "}
        {plural(evidence.busy_hours, "busy hour")} ({evidence.required_busy_hours}),{" "}
        {plural(evidence.moments, "ten-minute moment")} of business hours ({evidence.required_moments});{" "}
        {plural(evidence.calls, "call")}.
        {verdict.provisional && <span className="font-semibold"> Short of the brief: provisional.</span>}
      </p>
      {site.left_out.length > 0 && (
        <p className="mt-1 text-sm leading-snug">
          Left out: {site.left_out.map((one) => `${one.calls} ${one.what}`).join("; ")}.
          {verdict.word_with_all && (
            <span className="font-semibold">
              {" "}
              Had they been counted, the verdict would be “{verdict.word_with_all}”.
            </span>
          )}
        </p>
      )}
    </>
  );
}
