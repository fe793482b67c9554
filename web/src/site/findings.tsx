import { Link } from "react-router";
import type { Model } from "../api/client";

export function Findings({ site }: { site: Model<"SitePage"> }) {
  if (site.findings.length === 0) {
    return (
      <p>
        {site.evidence.calls
          ? "Nothing was found that costs calls."
          : "Nothing to judge yet: place calls first."}
      </p>
    );
  }
  return (
    <ol className="space-y-6">
      {site.findings.map((finding, i) => (
        <li key={finding.key}>
          <h3 className="text-[17px] leading-snug">
            {i + 1}. {finding.title}
          </h3>
          {finding.evidence.map((line) => (
            <p key={line} className="mt-1.5 leading-snug">
              {line}
            </p>
          ))}
          <p className="mt-1.5">
            Open the evidence:{" "}
            {evidence(finding).map(([to, words], n) => (
              <span key={to}>
                {n > 0 && ", "}
                <Link to={to} className="underline decoration-soft underline-offset-3 hover:decoration-ink">
                  {words}
                </Link>
              </span>
            ))}
          </p>
          <dl className="mt-2 grid grid-cols-[84px_1fr] gap-y-1 text-sm leading-snug">
            <dt className="text-soft">Considered</dt>
            <dd>{finding.alternatives.join(" ")}</dd>
            <dt className="text-soft">Remedy</dt>
            <dd>{finding.remedy}</dd>
            <dt className="text-soft">Who</dt>
            <dd>{finding.who}</dd>
            <dt className="text-soft">Gain</dt>
            <dd>{finding.gain}</dd>
          </dl>
        </li>
      ))}
    </ol>
  );
}

function evidence(finding: Model<"FindingView">): [string, string][] {
  return [
    ...finding.call_ids.map((id): [string, string] => [`/calls/${id}`, `call ${id}`]),
    ...finding.stream_ids.map((id): [string, string] => [`/videos/${id}`, `video stream ${id}`]),
  ];
}
