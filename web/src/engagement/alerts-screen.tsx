// What the rules of an engagement have told, the rules, and whom it goes to.
import { Link } from "react-router";
import { type Model, post, put, remove } from "../api/client";
import { SpellStrip } from "../charts/spell-strip";
import { Button, Note, Section } from "../ui/controls";
import { minuteWords } from "../ui/fields";
import { dateTime, duration } from "../ui/format";
import { useLivePage } from "../ui/live-page";
import { Pending, Trail } from "../ui/screen";
import { Wide } from "../ui/wide";
import { AlertRuleDialog } from "./alert-rule";
import { AlertTargets } from "./alert-targets";
import { deliveryWords } from "./alert-words";

type Page = Model<"AlertsPage">;
type Alert = Model<"AlertView">;
type Rule = Model<"RuleView">;

const isBusy = (page: Page) =>
  [...page.trials, ...page.alerts.flatMap((one) => one.deliveries)].some((one) => one.state === "waiting");

export function AlertsScreen({ id }: { id: string }) {
  const base = `/api/engagements/${id}/alerts`;
  const { page, problem, change } = useLivePage("AlertsPage", base, isBusy);
  if (!page.data) return <Pending what="the alerts" error={page.error} />;
  const { alerts, rules, week_from_us, week_until_us, engagement_name: name } = page.data;
  const open = alerts.filter((one) => one.ended_us === null);
  const past = alerts.filter((one) => one.ended_us !== null);
  const keep = async (form: Model<"RuleForm">, rule?: Rule) => {
    let said: string | null = null;
    await change(
      (rule
        ? put("AlertsPage", `${base}/rules/${rule.id}`, form)
        : post("AlertsPage", `${base}/rules`, form)
      ).catch((error: Error) => {
        said = error.message;
        throw error;
      }),
    );
    return said;
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${id}`, name],
        ]}
        title="Alerts"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Alerts of {name}</h1>
      {problem && <Note>{problem}</Note>}
      <Section title="Open">
        {open.length === 0 && (
          <p>
            {rules.length
              ? "No alert is open."
              : "There is no rule yet. A rule is one sentence; you see when it would have fired in the past week before you save it."}
          </p>
        )}
        <ul>
          {open.map((one) => (
            <li key={one.id} className="hair border-t py-3 first:border-t-0">
              <p className="text-lg leading-snug">
                <SiteLink alert={one} /> {one.says}
              </p>
              <p className="text-sm text-soft">
                {one.rule} Open {duration(Date.now() / 1000 - one.began_us / 1e6)}.
              </p>
              <Deliveries alert={one} />
            </li>
          ))}
        </ul>
      </Section>
      <Section title="Rules" aside="checked every few seconds; with their alerts of the past seven days">
        <ul>
          {rules.map((rule) => (
            <li
              key={rule.id}
              className="hair grid gap-x-8 gap-y-2 border-t py-3 first:border-t-0 md:grid-cols-[1fr_300px_auto]"
            >
              <div className="leading-snug">
                <p>{rule.sentence}</p>
                <p className="text-sm text-soft">{told(rule)}</p>
              </div>
              <SpellStrip from={week_from_us} until={week_until_us} spells={rule.week} />
              <div className="flex flex-wrap items-start gap-3">
                <AlertRuleDialog
                  engagement={id}
                  page={page.data}
                  of={rule}
                  onSave={(form) => keep(form, rule)}
                >
                  <Button aria-label={`Edit: ${rule.sentence}`}>Edit …</Button>
                </AlertRuleDialog>
                <Button
                  aria-label={`Remove: ${rule.sentence}`}
                  onClick={() => change(remove("AlertsPage", `${base}/rules/${rule.id}`))}
                >
                  Remove
                </Button>
              </div>
            </li>
          ))}
        </ul>
        <p className="mt-3">
          <AlertRuleDialog engagement={id} page={page.data} onSave={(form) => keep(form)}>
            <Button act={rules.length === 0}>New rule …</Button>
          </AlertRuleDialog>
        </p>
      </Section>
      <AlertTargets base={base} page={page.data} change={change} />
      {past.length > 0 && (
        <Section title="Past alerts" aside="newest first">
          <Wide label="Past alerts">
            <table className="w-full border-collapse text-[15px]">
              <thead>
                <tr className="rule text-left text-sm text-soft [&>th]:py-1.5 [&>th]:pr-5 [&>th]:font-normal">
                  <th>Site</th>
                  <th>From</th>
                  <th className="text-right">Lasted</th>
                  <th>What it said</th>
                  <th>Sent</th>
                </tr>
              </thead>
              <tbody>
                {past.map((one) => (
                  <tr key={one.id} className="hair border-t align-top [&>td]:py-1.5 [&>td]:pr-5">
                    <td>
                      <SiteLink alert={one} />
                    </td>
                    <td className="whitespace-nowrap">{dateTime(one.began_us, one.time_zone)}</td>
                    <td className="whitespace-nowrap text-right">
                      {duration(((one.ended_us ?? one.began_us) - one.began_us) / 1e6)}
                    </td>
                    <td>{one.says}</td>
                    <td>
                      <Deliveries alert={one} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Wide>
        </Section>
      )}
    </>
  );
}

function SiteLink({ alert }: { alert: Alert }) {
  return (
    <Link to={`/sites/${alert.site_slug}/watch`} className="font-semibold underline underline-offset-3">
      {alert.site_name}
    </Link>
  );
}

/** Where a rule holds and how it is sent, in words. */
function told(rule: Rule): string {
  const ways = [rule.mail ? "by email" : "", rule.webhook ? "to the webhook" : ""].filter(Boolean);
  const quiet =
    rule.quiet_from != null && rule.quiet_until != null
      ? ` Quiet from ${minuteWords(rule.quiet_from)} to ${minuteWords(rule.quiet_until)}.`
      : "";
  return (
    `${rule.site_name ?? "All sites"}. ${ways.length ? `Sent ${ways.join(" and ")}.` : "Shown here only."}` +
    (rule.collect ? " The probe checks its network at that moment." : "") +
    quiet
  );
}

function Deliveries({ alert }: { alert: Alert }) {
  if (alert.deliveries.length === 0) return null;
  return (
    <ul className="text-sm text-soft">
      {alert.deliveries.map((one) => (
        <li
          key={`${one.what} ${one.channel}`}
          className={one.state === "failed" ? "font-semibold text-ink" : ""}
        >
          {deliveryWords(one)}
        </li>
      ))}
    </ul>
  );
}
