// Causes: what was seen, where, what else was considered by figures, the remedy, who acts and what it would gain.
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Model, put } from "../../api/client";
import { Button } from "../../ui/controls";
import { SelectField, TextAreaField, TextField } from "../../ui/fields";
import { plural } from "../../ui/format";
import { Popup } from "../../ui/popup";

type Cause = Model<"CauseView">;
type Words = Pick<Required<Model<"DecisionForm">>, "words" | "weight" | "title" | "remedy" | "who">;

export function Causes({ site }: { site: Model<"SitePage"> }) {
  if (site.causes.length === 0) {
    return (
      <>
        <p>
          {site.evidence.calls
            ? `No cause of unacceptable calls was found in ${plural(site.evidence.calls, "call")}.`
            : "No call counts yet."}
        </p>
        <Dismissed site={site} />
      </>
    );
  }
  return (
    <>
      <ol className="space-y-6">
        {site.causes.map((cause, i) => (
          <li key={cause.anchor} id={cause.anchor}>
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
              {cause.alternatives.length > 0 && (
                <>
                  <dt className="text-soft">Ruled out, left open</dt>
                  <dd>{cause.alternatives.join(" ")}</dd>
                </>
              )}
              <dt className="text-soft">Remedy</dt>
              <dd>{cause.remedy}</dd>
              <dt className="text-soft">Who acts</dt>
              <dd>{cause.who}</dd>
              <dt className="text-soft">Gain</dt>
              <dd>{cause.gain}</dd>
              {cause.note && (
                <>
                  <dt className="text-soft">Note</dt>
                  <dd>{cause.note}</dd>
                </>
              )}
              {cause.decided.length > 0 && (
                <>
                  <dt className="text-soft">Decided</dt>
                  <dd>{cause.decided.join(" ")}</dd>
                </>
              )}
            </dl>
            <Decide slug={site.slug} cause={cause} />
          </li>
        ))}
      </ol>
      <Dismissed site={site} />
    </>
  );
}

const WEIGHTS = [
  ["first", "First"],
  ["", "As the evidence has it"],
  ["last", "Last"],
] as const;

/** Where the cause stands, its words and a note, as they go into the report; or its dismissal with the reason. */
function Decide({ slug, cause }: { slug: string; cause: Cause }) {
  const decide = useDecision(slug);
  const found = cause.as_found;
  const own = (name: keyof typeof found) => (cause[name] === found[name] ? "" : cause[name]);
  const [form, setForm] = useState<Words>({
    words: cause.note,
    weight: cause.weight,
    title: own("title"),
    remedy: own("remedy"),
    who: own("who"),
  });
  const set = (part: Partial<Words>) => setForm((was) => ({ ...was, ...part }));
  const [reason, setReason] = useState("");
  return (
    <p className="mt-2 flex flex-wrap gap-3">
      <Popup
        label={`Weigh and word ${cause.title}`}
        trigger={<Button>Weigh and word …</Button>}
        confirm="Save"
        onConfirm={() => decide(cause, { dismissed: false, ...form })}
      >
        <p className="leading-snug">
          As it stands in the report, which says what is yours and how it was found. Empty: as found. Verdict
          and score stay as the evidence has them.
        </p>
        <SelectField
          label="Order"
          value={form.weight}
          options={WEIGHTS}
          onChange={(weight) => set({ weight: weight as Words["weight"] })}
        />
        <TextField
          label="Heading"
          value={form.title}
          placeholder={found.title}
          onChange={(title) => set({ title })}
        />
        <TextAreaField
          label="Remedy"
          value={form.remedy}
          placeholder={found.remedy}
          onChange={(remedy) => set({ remedy })}
        />
        <TextField
          label="Who acts"
          value={form.who}
          placeholder={found.who}
          onChange={(who) => set({ who })}
        />
        <TextAreaField label="Note" value={form.words} onChange={(words) => set({ words })} />
      </Popup>
      <Popup
        label={`Dismiss ${cause.title}`}
        trigger={<Button>Dismiss …</Button>}
        confirm="Dismiss"
        onConfirm={() => decide(cause, { dismissed: true, words: reason })}
      >
        <p className="leading-snug">
          The report names it as considered and dismissed, with your reason. Verdict and score stay as the
          evidence has them.
        </p>
        <TextField label="Why" value={reason} onChange={setReason} />
      </Popup>
    </p>
  );
}

function Dismissed({ site }: { site: Model<"SitePage"> }) {
  const decide = useDecision(site.slug);
  if (site.dismissed.length === 0) return null;
  return (
    <ul className="mt-6 text-sm">
      {site.dismissed.map(({ cause, words, by }) => (
        <li key={cause.anchor} id={cause.anchor} className="hair border-t py-1.5 leading-snug">
          <span className="text-soft">Dismissed: </span>
          {cause.title}. {words}
          {by && <span className="text-soft"> ({by})</span>}{" "}
          <button
            type="button"
            className="underline underline-offset-3"
            onClick={() => decide(cause, { dismissed: false })}
          >
            Take back
          </button>
        </li>
      ))}
    </ul>
  );
}

function useDecision(slug: string) {
  const queries = useQueryClient();
  return async (cause: Cause, decided: Partial<Words> & { dismissed: boolean }) => {
    const { key, leg, direction } = cause;
    await put("DecisionView", `/api/sites/${slug}/decision`, { key, leg, direction, ...decided });
    await queries.invalidateQueries({ queryKey: ["site", slug] });
  };
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
