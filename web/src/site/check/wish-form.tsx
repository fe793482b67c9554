// What the next check asks beside what the probe finds out for itself: lists of words, and services a line each.
import { type FormEvent, useState } from "react";
import type { Model } from "../../api/client";
import { Button, Field, INPUT, Note, Section } from "../../ui/controls";

type Wish = Model<"WishForm">;
type Service = Model<"ServiceForm">;

const PROTOCOLS = ["tcp", "tls", "stun", "dns", "sip"];
const list = (text: string) => text.split(/[\s,;]+/).filter(Boolean);

export function WishForm({ wish, onSave }: { wish: Wish; onSave: (wish: Wish) => Promise<boolean> }) {
  const [names, setNames] = useState(wish.names.join(", "));
  const [outside, setOutside] = useState(wish.outside.join(", "));
  const [resolvers, setResolvers] = useState(wish.resolvers.join(", "));
  const [gateway, setGateway] = useState(wish.gateway);
  const [edge, setEdge] = useState(wish.edge);
  const [services, setServices] = useState(wish.services.map(line).join("\n"));
  const [said, setSaid] = useState<string | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const save = async (event: FormEvent) => {
    event.preventDefault();
    const read = services
      .split("\n")
      .filter((one) => one.trim())
      .map(service);
    const wrong = read.find((one) => typeof one === "string");
    setSaid(null);
    setProblem(typeof wrong === "string" ? wrong : null);
    if (wrong) return;
    const next = {
      gateway: gateway.trim(),
      edge: edge.trim(),
      names: list(names),
      outside: list(outside),
      resolvers: list(resolvers),
      services: read as Service[],
    };
    if (await onSave(next)) setSaid("Saved; the next check asks it.");
  };
  return (
    <Section title="What is asked">
      <form onSubmit={save} className="grid gap-3">
        <Field label="Names to look up">
          <input className={INPUT} value={names} onChange={(event) => setNames(event.target.value)} />
        </Field>
        <Field label="Addresses outside" hint="Anywhere on the Internet that answers echoes">
          <input className={INPUT} value={outside} onChange={(event) => setOutside(event.target.value)} />
        </Field>
        <Field
          label="Services, a line each"
          hint="name host port protocol, such as Meetings meet.example 443 tls"
        >
          <textarea
            rows={4}
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

function line(one: Service): string {
  return [one.name, one.host, one.port, one.protocol, one.sha256].filter(Boolean).join(" ");
}

/** The service, or what is wrong with the line. The name may be of several words. */
function service(text: string): Service | string {
  const parts = text.trim().split(/\s+/);
  const at = parts.findIndex((part) => PROTOCOLS.includes(part.toLowerCase()));
  const port = Number(parts[at - 1]);
  const host = parts[at - 2];
  const name = parts.slice(0, at - 2).join(" ");
  const digest = parts.slice(at + 1);
  const strange = digest.length > 1 || (digest.length === 1 && !/^[0-9a-f:]{64,95}$/i.test(digest[0] ?? ""));
  if (strange || at < 3 || !host || !name || !Number.isInteger(port) || port < 1 || port > 65535)
    return `“${text.trim()}” is no service: write name, host, port and one of ${PROTOCOLS.join(", ")}; of tls also the certificate’s SHA-256, if it is to be a certain one.`;
  return {
    name,
    host,
    port,
    protocol: (parts[at] ?? "tcp").toLowerCase() as Service["protocol"],
    sha256: digest[0] ?? "",
  };
}
