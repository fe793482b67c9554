// Causes: what was seen, where, what else was considered by figures, the remedy, who acts and what it would gain.
import { Link } from "react-router";
import type { Model } from "../../api/client";
import { plural } from "../../ui/format";

type Cause = Model<"CauseView">;

export function Causes({ site }: { site: Model<"SitePage"> }) {
  if (site.causes.length === 0) {
    return (
      <p>
        {site.evidence.calls
          ? `No cause of unacceptable calls was found in ${plural(site.evidence.calls, "call")}.`
          : "No call counts yet."}
      </p>
    );
  }
  return (
    <ol className="space-y-6">
      {site.causes.map((cause, i) => (
        <li key={`${cause.key}-${cause.direction}-${cause.leg}`}>
          <h3 className="text-[17px] leading-snug">
            {i + 1}. {cause.title}
          </h3>
          <p className="text-sm text-soft">{cause.network ? cause.place : "not the network"}</p>
          {cause.says.map((line) => (
            <p key={line} className="mt-1.5 leading-snug">
              {line}
            </p>
          ))}
          <Evidence cause={cause} />
          <dl className="mt-2 grid grid-cols-[84px_1fr] gap-y-1 text-sm leading-snug">
            <dt className="text-soft">Ruled out, left open</dt>
            <dd>{cause.alternatives.join(" ")}</dd>
            <dt className="text-soft">Remedy</dt>
            <dd>{cause.remedy}</dd>
            <dt className="text-soft">Who acts</dt>
            <dd>{cause.who}</dd>
            <dt className="text-soft">Gain</dt>
            <dd>{cause.gain}</dd>
          </dl>
        </li>
      ))}
    </ol>
  );
}

function Evidence({ cause }: { cause: Cause }) {
  const links: [string, string][] = [
    ...cause.call_ids.map((id): [string, string] => [`/calls/${id}`, `call ${id}`]),
    ...cause.stream_ids.map((id): [string, string] => [`/videos/${id}`, `video stream ${id}`]),
  ];
  if (links.length === 0) return null;
  return (
    <p className="mt-1.5">
      Evidence:{" "}
      {links.map(([to, words], n) => (
        <span key={to}>
          {n > 0 && ", "}
          <Link to={to} className="underline decoration-soft underline-offset-3 hover:decoration-ink">
            {words}
          </Link>
        </span>
      ))}
    </p>
  );
}
