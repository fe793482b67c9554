// Placing calls: what to send, from where to where, and at once what it costs on this site's line.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type Model, post } from "../../api/client";
import { Button, Note } from "../../ui/controls";
import { NumberField } from "../../ui/fields";
import { count, pct, plural, withUnit } from "../../ui/format";
import { useSettled } from "../../ui/settled";
import { Sheet } from "../../ui/sheet";
import { ends, freshForm } from "../load/fresh";
import { LoadFields } from "../load/plan-fields";
import { Whole } from "../load/when-fields";

type Site = Model<"SitePage">;
type Form = Model<"PlanForm">;

export function PlaceCalls(props: { site: Site; open: boolean; onOpenChange: (open: boolean) => void }) {
  const { site } = props;
  const places = useQuery({
    queryKey: ["places", site.slug],
    queryFn: () => get("PlacePage", `/api/sites/${site.slug}/place`),
    enabled: props.open,
  });
  return (
    <Dialog.Root open={props.open} onOpenChange={props.onOpenChange}>
      <Sheet title={`Place calls from ${site.name}`} width={820}>
        {places.error && <Note>{places.error.message}</Note>}
        {places.data && <PlaceForm site={site} places={places.data} />}
      </Sheet>
    </Dialog.Root>
  );
}

function PlaceForm({ site, places }: { site: Site; places: Model<"PlacePage"> }) {
  const navigate = useNavigate();
  const { probes, farEnds } = ends(places);
  const [form, setForm] = useState<Form>(() => ({
    ...freshForm(site, probes, farEnds),
    shape: "hold",
    calls: site.brief.needed_calls,
    video: [],
  }));
  const [problem, setProblem] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const change = (part: Partial<Form>) => setForm((before) => ({ ...before, ...part }));
  const place = async () => {
    setBusy(true);
    setProblem(null);
    try {
      const run = await post("RunPage", `/api/sites/${site.slug}/runs`, {
        probe_id: form.probe_id,
        far_end_id: form.far_end_id,
        codec: form.codec,
        ptime_ms: form.ptime_ms,
        calls: form.calls,
        seconds: form.call_s,
        dscp: form.dscp,
        direction: form.direction,
        video: form.video,
      });
      navigate(`/runs/${run.id}`);
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };
  if (probes.length === 0 || farEnds.length === 0)
    return (
      <p className="mt-4">
        Calls go from a probe to a far end.{" "}
        <Link to={`/sites/${site.slug}/place`} className="underline underline-offset-3">
          Place both first
        </Link>
        .
      </p>
    );
  return (
    <form
      className="mt-5"
      onSubmit={(event) => {
        event.preventDefault();
        place();
      }}
    >
      <LoadFields form={form} change={change} probes={probes} farEnds={farEnds} />
      <div className="mt-5 grid gap-5 sm:grid-cols-[160px_160px_1fr]">
        <Whole label="Concurrent calls" value={form.calls} onChange={(calls) => change({ calls })} />
        <NumberField
          label="Seconds each"
          value={form.call_s ?? 30}
          hint="60 or more give the best evidence"
          onChange={(value) => change({ call_s: value ?? 0 })}
        />
      </div>
      <Cost site={site} form={form} onFix={setForm} />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6 flex flex-wrap gap-3">
        <Button act type="submit" disabled={busy}>
          Place {plural(form.calls, "call")}
        </Button>
        <Dialog.Close className="border border-ink bg-raised px-4 py-1.5 font-semibold">Cancel</Dialog.Close>
      </div>
    </form>
  );
}

/** What the plan of it would cost, by the same arithmetic, and what stands against it. */
function Cost({ site, form, onFix }: { site: Site; form: Form; onFix: (form: Form) => void }) {
  const settled = useSettled(form);
  const answer = useQuery({
    queryKey: ["plan-check", site.slug, settled],
    queryFn: () => post("PlanCheck", `/api/sites/${site.slug}/plans/check`, settled),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (answer.error) return <p className="mt-5">{answer.error.message}</p>;
  const found = answer.data;
  if (!found) return <p className="mt-5 h-12" />;
  const share = (part: number | null) => (part === null ? "an unknown share" : pct(part, part > 10 ? 0 : 1));
  return (
    <>
      <p className="mt-5 border-y border-hair py-2.5 leading-snug">
        {withUnit(count(Math.round(found.takes.each_way_ip_kbps)), "kbit/s")} each way on the line,{" "}
        {count(Math.round(found.takes.each_way_wire_kbps))} on the wire: {share(found.takes.share_up_pct)} of
        the line up, {share(found.takes.share_down_pct)} down
        {found.takes.ceiling_calls !== null &&
          `; tests may place at most ${plural(found.takes.ceiling_calls, "call")}`}
        . Takes {withUnit(found.takes.run_s, "s")} and sends {count(found.takes.packets)} packets.
      </p>
      {found.problems.map((one) => (
        <p
          key={one.words}
          role="alert"
          className="mt-3 border-l-4 border-act bg-raised py-2 pl-3 leading-snug"
        >
          {one.words}{" "}
          {one.fix && one.fix.when === "now" && (
            <button
              type="button"
              className="underline underline-offset-3"
              onClick={() => one.fix && onFix(one.fix)}
            >
              {one.fix_words}
            </button>
          )}
        </p>
      ))}
    </>
  );
}
