// The brief: what is known of a site and what it must carry, with the arithmetic beside it.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model, post, put } from "../../api/client";
import { Button, LinkButton, Note, Section } from "../../ui/controls";
import { dateTime } from "../../ui/format";
import { Pending, Trail } from "../../ui/screen";
import { Arithmetic } from "./arithmetic";
import { Hours } from "./hours";
import type { Form, Page } from "./part";
import { People } from "./people";
import { TargetsSection } from "./targets";
import { TheLine } from "./the-line";
import { WhatItCarries } from "./what-it-carries";

/** The brief of a site that exists. */
export function BriefScreen({ id }: { id: string }) {
  return <Loaded path={`/api/sites/${id}/brief`} />;
}

/** The brief of a site that is being made. */
export function NewSiteScreen({ id }: { id: string }) {
  return <Loaded path={`/api/engagements/${id}/brief`} />;
}

function Loaded({ path }: { path: string }) {
  const page = useQuery({
    queryKey: ["brief", path],
    queryFn: () => get("BriefPage", path),
    // What is being written must not be overwritten by what was read.
    refetchOnWindowFocus: false,
    gcTime: 0,
  });
  if (!page.data) return <Pending what="the brief" error={page.error} />;
  return <Editor page={page.data} />;
}

function Editor({ page }: { page: Page }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [form, setForm] = useState<Form>(page.form);
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const change = (part: Partial<Form>) => setForm((before) => ({ ...before, ...part }));
  const site = page.site_slug;
  const back = site ? `/sites/${site}` : `/engagements/${page.engagement_slug}`;

  const save = async () => {
    setBusy(true);
    setProblem(null);
    try {
      const made = site
        ? await put("Made", `/api/sites/${site}/brief`, form)
        : await post("Made", `/api/engagements/${page.engagement_slug}/sites`, form);
      await queries.invalidateQueries();
      navigate(`/sites/${made.slug}`);
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };

  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          ...(site ? ([[`/sites/${site}`, page.form.name]] as [string, string][]) : []),
        ]}
        title={site ? `Brief of ${page.form.name}` : "New site"}
      />
      <h1 className="mt-2 text-3xl tracking-tight">{site ? `Brief of ${page.form.name}` : "A new site"}</h1>
      <form
        className="grid lg:grid-cols-[1fr_360px] gap-10"
        onSubmit={(event) => {
          event.preventDefault();
          save();
        }}
      >
        <div>
          <WhatItCarries page={page} form={form} change={change} />
          <TheLine form={form} change={change} />
          <Section title="Acceptance criteria and evidence">
            <TargetsSection
              page={page}
              targets={form.targets as Model<"TargetsForm">}
              onChange={(targets) => change({ targets })}
            />
          </Section>
          <Hours page={page} form={form} change={change} />
          <People form={form} change={change} />
          {page.changes.length > 0 && <History page={page} />}
          <div className="rule sticky bottom-0 mt-9 bg-paper py-4">
            {problem && (
              <div className="mb-3">
                <Note>{problem}</Note>
              </div>
            )}
            <div className="flex flex-wrap gap-3">
              <Button act type="submit" disabled={busy}>
                {site ? "Save brief" : "Create site"}
              </Button>
              <LinkButton to={back}>{site ? "Discard changes" : "Cancel"}</LinkButton>
            </div>
          </div>
        </div>
        <div className="pt-9">
          <Arithmetic form={form} />
        </div>
      </form>
    </>
  );
}

/** What it said before; the report lists the same. */
function History({ page }: { page: Page }) {
  const [all, setAll] = useState(false);
  const shown = all ? page.changes : page.changes.slice(0, 3);
  return (
    <Section title="Changes" aside="newest first; they are listed in the report">
      <ul>
        {shown.map((one) => (
          <li key={one.at_us} className="hair border-b py-2">
            <p className="text-sm text-soft">
              {dateTime(one.at_us, page.form.time_zone ?? "UTC")}
              {one.by && `, ${one.by}`}
            </p>
            {one.changes.map((change) => (
              <p key={change.what} className="leading-snug">
                {change.what}: {change.before} → {change.after}
              </p>
            ))}
          </li>
        ))}
      </ul>
      {page.changes.length > shown.length && (
        <button
          type="button"
          className="mt-2 text-sm underline underline-offset-3"
          onClick={() => setAll(true)}
        >
          Show all {page.changes.length}
        </button>
      )}
    </Section>
  );
}
