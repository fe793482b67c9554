// Checking a site before loading it: one press, the ladder as the answers come, and what failed with who must act.
import { useState } from "react";
import { Link } from "react-router";
import { type Model, post, put } from "../../api/client";
import { Button, Note, Section } from "../../ui/controls";
import { SelectField } from "../../ui/fields";
import { ago, dateTime, plural } from "../../ui/format";
import { underWay, useLivePage } from "../../ui/live-page";
import { Pending, Trail } from "../../ui/screen";
import { BenchMenu } from "../bench-menu";
import { Ladder } from "./ladder";
import { SharedServices } from "./shared-services";
import { WishForm } from "./wish-form";

type Page = Model<"CheckPage">;
type Check = Model<"CheckView">;

export function CheckScreen({ id }: { id: string }) {
  const [chosen, setChosen] = useState<number | null>(null);
  const path = `/api/sites/${id}/checks`;
  const { page, problem, change } = useLivePage("CheckPage", path, (data) => data.checks.some(underWay));
  if (!page.data) return <Pending what="the checks" error={page.error} />;
  const { data } = page;
  const shown = data.checks.find((check) => check.id === chosen) ?? data.checks[0];
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
        ]}
        title={`Check, ${data.site_name}`}
      />
      <h1 className="mt-2 text-3xl tracking-tight">Check {data.site_name}</h1>
      <p className="mt-1 flex flex-wrap gap-x-5 text-sm">
        <Link className="underline underline-offset-3" to={`/sites/${id}/survey`}>
          Walk-about survey
        </Link>
        <Link className="underline underline-offset-3" to={`/sites/${id}/look`}>
          Quick look
        </Link>
      </p>
      <BenchMenu slug={id} />
      <Ask
        page={data}
        busy={data.checks.some(underWay)}
        onAsk={(body) => {
          setChosen(null);
          return change(post("CheckPage", path, body));
        }}
      />
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <div className="mt-6 grid gap-x-12 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <div>
          {shown ? (
            <Shown
              check={shown}
              slug={id}
              zone={data.time_zone}
              onStop={() => change(post("CheckPage", `${path}/${shown.id}/stop`, {}))}
            />
          ) : (
            <p className="max-w-xl">
              Nothing has been asked here yet. A check takes about forty seconds and sends some hundred small
              packets, four calls of a second each, and a registration with a call over UDP, TCP and TLS.
            </p>
          )}
        </div>
        <aside>
          <History checks={data.checks} shown={shown} zone={data.time_zone} onChoose={setChosen} />
          <SharedServices
            slug={id}
            page={data}
            onSave={(services) => change(put("CheckPage", `${path}/services`, services))}
          />
          <WishForm
            wish={data.wish}
            usual={data.usual_limits}
            onSave={(wish) => change(put("CheckPage", `${path}/wish`, wish))}
          />
        </aside>
      </div>
    </>
  );
}

function Ask({
  page,
  busy,
  onAsk,
}: {
  page: Page;
  busy: boolean;
  onAsk: (body: Model<"AskCheck">) => Promise<boolean>;
}) {
  const [probe, setProbe] = useState("");
  const [farEnd, setFarEnd] = useState("");
  const from =
    page.probes.find((one) => String(one.id) === probe) ??
    page.probes.find((p) => p.online) ??
    page.probes[0];
  const to = page.far_ends.find((one) => String(one.id) === farEnd) ?? page.far_ends[0];
  if (!from) return <p className="mt-4">No probe has enrolled here yet. Place one first.</p>;
  if (!to)
    return (
      <p className="mt-4">No far end is chosen for this site yet. Choose one where probes are placed.</p>
    );
  return (
    <div className="mt-4 flex flex-wrap items-end gap-4">
      <SelectField
        label="From the probe"
        value={String(from.id)}
        onChange={setProbe}
        options={page.probes.map((one) => [String(one.id), one.online ? one.name : `${one.name} (offline)`])}
      />
      <SelectField
        label="To the far end"
        value={String(to.id)}
        onChange={setFarEnd}
        options={page.far_ends.map((one) => [String(one.id), one.name])}
      />
      <Button act disabled={busy} onClick={() => onAsk({ probe_id: from.id, far_end_id: to.id })}>
        {busy ? "Checking …" : "Check this site"}
      </Button>
    </div>
  );
}

function Shown({
  check,
  slug,
  zone,
  onStop,
}: {
  check: Check;
  slug: string;
  zone: string;
  onStop: () => void;
}) {
  return (
    <>
      <div role="status" className="mb-4 flex flex-wrap items-baseline gap-4">
        <p className="text-lg font-semibold">{summary(check)}</p>
        <span className="text-sm text-soft">
          {check.probe}, {dateTime(check.asked_us, zone)}
        </span>
        {underWay(check) && <Button onClick={onStop}>Stop</Button>}
      </div>
      {check.causes.map((cause) => (
        <div
          key={`${cause.key}-${cause.direction}-${cause.says}`}
          className="mb-5 border-l-4 border-ink bg-raised py-2.5 pr-4 pl-4"
        >
          <h2 className="text-lg">{cause.title}</h2>
          <p className="mt-1 leading-snug">{cause.says}</p>
          <p className="mt-2 leading-snug">
            <span className="text-soft">What to do:</span> {cause.remedy}{" "}
            <span className="text-soft">Who acts: {cause.who}.</span>
          </p>
        </div>
      ))}
      {check.changed.length > 0 && (
        <p className="mb-4 leading-snug">
          <span className="text-soft">Since the check before:</span> {check.changed.join(" ")}
        </p>
      )}
      {check.rungs.length > 0 && (
        <Ladder check={check} open={underWay(check)} address={`/api/sites/${slug}/checks/${check.id}`} />
      )}
      {check.not_faults.length > 0 && (
        <Section title="No fault, though it may look like one">
          {check.not_faults.map((one) => (
            <p key={one.says} className="mb-2 leading-snug">
              {one.says}
            </p>
          ))}
        </Section>
      )}
    </>
  );
}

function summary(check: Check): string {
  if (check.state === "failed") return check.words;
  if (underWay(check)) return `${check.words} ${check.asked} of ${check.questions} questions answered.`;
  const failed = check.rungs.filter((rung) => rung.state === "failed").length;
  const passed = check.rungs.filter((rung) => rung.state === "passed").length;
  const cut = check.stopped ? " Stopped before every question was asked." : "";
  if (failed > 0) return `${failed} of ${check.rungs.length} rungs failed.${cut}`;
  const unproven = check.rungs.length - passed;
  if (unproven === 0) return `All ${check.rungs.length} rungs passed.${cut}`;
  return `Nothing failed: ${passed} of ${check.rungs.length} rungs passed, ${plural(unproven, "is", "are")} unproven.${cut}`;
}

function History({
  checks,
  shown,
  zone,
  onChoose,
}: {
  checks: Check[];
  shown: Check | undefined;
  zone: string;
  onChoose: (id: number) => void;
}) {
  if (checks.length < 2) return null;
  return (
    <Section title="Earlier checks">
      {shown !== checks[0] && checks[0] && (
        <button
          type="button"
          className="py-1 text-sm font-semibold underline underline-offset-3"
          onClick={() => onChoose(checks[0]?.id ?? 0)}
        >
          Back to the newest
        </button>
      )}
      <ul>
        {checks.slice(1).map((check) => (
          <li key={check.id}>
            <button
              type="button"
              aria-pressed={check.id === shown?.id}
              className={`py-1 text-left text-sm underline-offset-3 hover:underline ${check.id === shown?.id ? "font-semibold" : ""}`}
              onClick={() => onChoose(check.id)}
              title={dateTime(check.asked_us, zone)}
            >
              {ago(check.asked_us)}, {check.probe}: {brief(check)}
            </button>
          </li>
        ))}
      </ul>
    </Section>
  );
}

function brief(check: Check): string {
  if (check.state === "failed") return "could not be done";
  if (underWay(check)) return "under way";
  const failed = check.rungs.filter((rung) => rung.state === "failed").map((rung) => rung.title);
  return failed.length > 0 ? `failed ${failed.join(", ").toLowerCase()}` : "nothing failed";
}
