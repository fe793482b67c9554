// Load: plans of test calls, each with its cost and what speaks against it beside it, and what came of the last ones.
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type Model, post, put, remove } from "../../api/client";
import { useAddress } from "../../ui/address";
import { Button, FileLink, Note, Section } from "../../ui/controls";
import { dateTime, duration, plural } from "../../ui/format";
import { Pager } from "../../ui/pager";
import { slowing } from "../../ui/polling";
import { Popup } from "../../ui/popup";
import { Pending, Trail } from "../../ui/screen";
import { closingForm, ends, freshForm } from "./fresh";
import { PlanAside } from "./plan-aside";
import { PlanFields } from "./plan-fields";
import { ruleWords } from "./rule";

const PACE = slowing(4000);
const SITE_PACE = slowing(10_000);

type Form = Model<"PlanForm">;
type Plans = Model<"PlanList">;

const SERIES = 10;

export function LoadScreen({ id }: { id: string }) {
  const site = useQuery({
    queryKey: ["site", id],
    queryFn: () => get("SitePage", `/api/sites/${id}`),
    refetchInterval: SITE_PACE,
  });
  const places = useQuery({
    queryKey: ["places", id],
    queryFn: () => get("PlacePage", `/api/sites/${id}/place`),
  });
  const [search, set] = useAddress();
  const page = Math.max(0, Number(search.get("page") ?? 0) || 0);
  const plans = useQuery({
    queryKey: ["plans", id, page],
    queryFn: () => get("PlanList", `/api/sites/${id}/plans?limit=${SERIES}&offset=${page * SERIES}`),
    placeholderData: keepPreviousData,
    refetchInterval: PACE,
  });
  if (!site.data || !places.data || !plans.data)
    return <Pending what="the plans" error={site.error ?? places.error ?? plans.error} />;
  const pager = (
    <Pager
      page={page}
      size={SERIES}
      total={plans.data.series_total}
      onPage={(next) => set("page", next ? String(next) : "")}
    />
  );
  return <Plans site={site.data} places={places.data} plans={plans.data} pager={pager} />;
}

interface Props {
  site: Model<"SitePage">;
  places: Model<"PlacePage">;
  plans: Plans;
  /** To older runs of plans. */
  pager: ReactNode;
}

function Plans({ site, places, plans, pager }: Props) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const { probes, farEnds } = ends(places);
  const fresh = freshForm(site, probes, farEnds);
  const [search, setSearch] = useAddress();
  const { closing } = site.coverage;
  const closes = search.get("plan") === "closing" && closing !== null;
  const [form, setForm] = useState<Form>(closes ? closingForm(fresh, closing) : fresh);
  const [changing, setChanging] = useState<number | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const path = `/api/sites/${site.slug}/plans`;
  const save = async (next: Form) => {
    setProblem(null);
    try {
      const made =
        changing === null
          ? await post("PlanMade", path, next)
          : await put("PlanMade", `${path}/${changing}`, next);
      await queries.invalidateQueries();
      setChanging(null);
      setForm(fresh);
      setSearch("plan", "");
      if (made.series_id !== null) navigate(`/series/${made.series_id}`);
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  const ready = probes.length > 0 && farEnds.length > 0;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${site.engagement_slug}`, site.engagement_name],
          [`/sites/${site.slug}`, site.name],
        ]}
        title={`Load at ${site.name}`}
      />
      <h1 className="mt-2 text-3xl tracking-tight">Load at {site.name}</h1>
      <p className="mt-1">
        What a busy line does to calls:{" "}
        <Link to={`/sites/${site.slug}/line`} className="underline underline-offset-3">
          fill the line beside calls
        </Link>
        . What a router makes of small packets:{" "}
        <Link to={`/sites/${site.slug}/packets`} className="underline underline-offset-3">
          send many of them
        </Link>
        .
      </p>
      <Planned
        site={site}
        plans={plans}
        pager={pager}
        onChange={(plan) => {
          setForm(plan.form);
          setChanging(plan.id);
          document.getElementById("plan")?.scrollIntoView({ block: "start" });
        }}
      />
      {!ready && (
        <p className="mt-8">
          Calls go from a probe to a far end.{" "}
          <Link to={`/sites/${site.slug}/place`} className="underline underline-offset-3">
            Place both first
          </Link>
          .
        </p>
      )}
      {ready && (
        <div className="grid lg:grid-cols-[1fr_360px] gap-10">
          <Section id="plan" title={changing === null ? "A new plan" : "Change the plan"}>
            {closes && changing === null && <p className="mb-4 leading-snug">{closing.says}</p>}
            <PlanFields
              form={form}
              change={(part) => setForm((before) => ({ ...before, ...part }))}
              probes={probes}
              farEnds={farEnds}
              timeZone={site.brief.time_zone}
            />
            {problem && (
              <div className="mt-5">
                <Note>{problem}</Note>
              </div>
            )}
            <div className="mt-6 flex flex-wrap gap-3">
              <Button act onClick={() => save(form)}>
                {
                  { now: "Start it now", at: "Schedule it", repeat: "Schedule it", draft: "Save as draft" }[
                    form.when ?? "now"
                  ]
                }
              </Button>
              {changing !== null && (
                <Button
                  onClick={() => {
                    setChanging(null);
                    setForm(fresh);
                  }}
                >
                  Discard changes
                </Button>
              )}
            </div>
          </Section>
          <div className="pt-9">
            <PlanAside slug={site.slug} form={form} timeZone={site.brief.time_zone} onFix={setForm} />
          </div>
        </div>
      )}
    </>
  );
}

/** What will run and when, and what ran. */
function Planned(props: {
  site: Props["site"];
  plans: Plans;
  pager: ReactNode;
  onChange: (plan: Plans["plans"][number]) => void;
}) {
  const { site, plans, pager, onChange } = props;
  const queries = useQueryClient();
  const zone = site.brief.time_zone;
  const drop = async (id: number) => {
    await remove("PlanList", `/api/sites/${site.slug}/plans/${id}`);
    await queries.invalidateQueries({ queryKey: ["plans", site.slug] });
  };
  return (
    <>
      {plans.plans.length > 0 && (
        <Section
          title="Planned"
          aside={
            <FileLink href={`/api/sites/${site.slug}/plans.ics`}>Calendar for the site’s people</FileLink>
          }
        >
          <ul>
            {plans.plans.map((plan) => (
              <li key={plan.id} className="hair grid lg:grid-cols-[220px_1fr_auto] gap-6 border-b py-2.5">
                <p className={plan.state === "draft" ? "" : "font-semibold"}>
                  {plan.next_us === null ? (
                    <span className="hatched inline-block px-2">draft, not scheduled</span>
                  ) : (
                    dateTime(plan.next_us, zone)
                  )}
                  {plan.recurs && (
                    <span className="block text-sm font-normal text-soft">{ruleWords(plan.recurs)}</span>
                  )}
                </p>
                <p>
                  {plan.name}
                  <span className="block text-sm text-soft">
                    {plan.load} · {duration(plan.run_s)} · {plan.probe} to {plan.far_end}
                  </span>
                </p>
                <p className="flex flex-wrap gap-4 text-sm [&>button]:underline [&>button]:underline-offset-3">
                  <button type="button" onClick={() => onChange(plan)}>
                    {plan.state === "draft" ? "Schedule or change …" : "Change …"}
                  </button>
                  <Popup
                    label="Cancel plan"
                    trigger={<button type="button">Cancel plan</button>}
                    confirm="Cancel plan"
                    onConfirm={() => drop(plan.id)}
                  >
                    <p>Cancel “{plan.name}”? Nothing more of it starts. What it placed so far stays.</p>
                  </Popup>
                </p>
              </li>
            ))}
          </ul>
        </Section>
      )}
      {plans.series.length > 0 && (
        <Section title="Past runs of plans" aside="newest first">
          <ul>
            {plans.series.map((one) => (
              <li key={one.id} className="hair grid lg:grid-cols-[220px_1fr_260px] gap-6 border-b py-2">
                <Link to={`/series/${one.id}`} className="underline underline-offset-3">
                  {dateTime(one.due_us, zone)}
                </Link>
                <p>{one.name}</p>
                <p>
                  {one.state}
                  {one.held_calls !== null && `, ${plural(one.held_calls, "concurrent call")} observed`}
                  {one.state === "running" && `, ${one.steps_done} of ${one.steps} steps`}
                  {one.words && <span className="block text-sm text-soft">{one.words}</span>}
                </p>
              </li>
            ))}
          </ul>
          {pager}
        </Section>
      )}
    </>
  );
}
