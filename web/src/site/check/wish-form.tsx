// What this site's check asks beside what the probe finds out for itself, and what counts as healthy here.
import { type FormEvent, useState } from "react";
import type { Model } from "../../api/client";
import { Button, Field, INPUT, Note, Section } from "../../ui/controls";
import { NumberField } from "../../ui/fields";
import { type Account, AccountFields, NO_ACCOUNT } from "./account-fields";
import { servicesOf, textOf } from "./service-lines";

type Wish = Model<"WishForm">;
type Limits = Model<"Limits">;

const LIMITS: [keyof Limits, string, string][] = [
  ["gateway_ms", "Gateway over a cable, median at most", "ms"],
  ["gateway_wireless_ms", "Gateway over Wi-Fi, median at most", "ms"],
  ["loss_pct", "Echo loss that fails", "%"],
  ["name_ms", "Name lookup, median at most", "ms"],
  ["slow_hop_ms", "A hop is slow from", "ms"],
  ["binding_s", "UDP mapping kept for at least", "s"],
  ["changed_pct", "Packets marked otherwise that fail", "%"],
];
const list = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

export function WishForm({
  wish,
  usual,
  onSave,
}: {
  wish: Wish;
  usual: Limits;
  onSave: (wish: Wish) => Promise<boolean>;
}) {
  const [names, setNames] = useState(wish.names.join(", "));
  const [outside, setOutside] = useState(wish.outside.join(", "));
  const [resolvers, setResolvers] = useState(wish.resolvers.join(", "));
  const [gateway, setGateway] = useState(wish.gateway);
  const [edge, setEdge] = useState(wish.edge);
  const [services, setServices] = useState(textOf(wish.services));
  const [account, setAccount] = useState<Account>({ ...NO_ACCOUNT, ...wish.account });
  const [limits, setLimits] = useState<Record<string, number | null>>({ ...wish.limits });
  const [said, setSaid] = useState<string | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const save = async (event: FormEvent) => {
    event.preventDefault();
    const read = servicesOf(services);
    setSaid(null);
    setProblem(typeof read === "string" ? read : null);
    if (typeof read === "string") return;
    const whole = Object.fromEntries(LIMITS.map(([key]) => [key, limits[key] ?? usual[key]]));
    setLimits(whole);
    const next = {
      gateway: gateway.trim(),
      edge: edge.trim(),
      names: list(names),
      outside: list(outside),
      resolvers: list(resolvers),
      services: read,
      limits: whole as unknown as Limits,
      account: account.host === "" ? null : account,
    };
    if (await onSave(next)) setSaid("Saved; the next check asks it.");
  };
  const changed = LIMITS.filter(([key]) => (limits[key] ?? usual[key]) !== usual[key]).length;
  return (
    <Section title="This site">
      <form onSubmit={save} className="grid gap-3">
        <Field label="Names to look up">
          <input className={INPUT} value={names} onChange={(event) => setNames(event.target.value)} />
        </Field>
        <Field label="Addresses outside" hint="Anywhere on the Internet that answers echoes">
          <input className={INPUT} value={outside} onChange={(event) => setOutside(event.target.value)} />
        </Field>
        <Field label="Services that only this site asks">
          <textarea
            rows={2}
            className={`${INPUT} font-mono text-[13px]`}
            value={services}
            onChange={(event) => setServices(event.target.value)}
          />
        </Field>
        <details>
          <summary className="cursor-pointer text-sm text-soft">Instead of what the probe finds</summary>
          <div className="mt-2 grid gap-3">
            <Field label="Gateway">
              <input className={INPUT} value={gateway} onChange={(event) => setGateway(event.target.value)} />
            </Field>
            <Field label="Provider’s edge">
              <input className={INPUT} value={edge} onChange={(event) => setEdge(event.target.value)} />
            </Field>
            <Field label="Name servers">
              <input
                className={INPUT}
                value={resolvers}
                onChange={(event) => setResolvers(event.target.value)}
              />
            </Field>
          </div>
        </details>
        <details>
          <summary className="cursor-pointer text-sm text-soft">
            The customer’s registrar{account.host === "" ? "" : `: ${account.host}`}
          </summary>
          <div className="mt-2 grid gap-3">
            <AccountFields
              account={account}
              isKept={wish.account?.has_password ?? false}
              onChange={setAccount}
            />
          </div>
        </details>
        <details>
          <summary className="cursor-pointer text-sm text-soft">
            Limits{changed > 0 ? `, ${changed} of them this site’s own` : ""}
          </summary>
          <div className="mt-2 grid gap-3">
            {LIMITS.map(([key, label, unit]) => (
              <NumberField
                key={key}
                label={label}
                unit={unit}
                value={limits[key] ?? null}
                placeholder={String(usual[key])}
                onChange={(value) => setLimits({ ...limits, [key]: value })}
              />
            ))}
            <p className="text-sm text-soft">
              Empty: the usual value. Checks that were made already are judged by them as well.
            </p>
          </div>
        </details>
        {problem && <Note>{problem}</Note>}
        <div className="flex items-center gap-3">
          <Button type="submit">Save</Button>
          <span role="status" className="text-sm">
            {said}
          </span>
        </div>
      </form>
    </Section>
  );
}
