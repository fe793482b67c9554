// Whom alerts go to: addresses, a webhook, the mail server they go by, and monitoring programs that read figures.
import { useState } from "react";
import { get, type Model, post, put, remove } from "../api/client";
import { Button, Section } from "../ui/controls";
import { NumberField, SelectField, TextAreaField, TextField } from "../ui/fields";
import { ago } from "../ui/format";
import { Popup } from "../ui/popup";
import { deliveryWords } from "./alert-words";

type Page = Model<"AlertsPage">;

interface Props {
  base: string;
  page: Page;
  change: (asked: Promise<Page>) => Promise<boolean>;
}

/** As a popup wants it: thrown where the server says no. */
async function changed(change: Props["change"], asked: Promise<Page>) {
  const page = await asked;
  await change(Promise.resolve(page));
}

export function AlertTargets({ base, page, change }: Props) {
  const { targets, mail_server: server } = page;
  const trial = (channel: "mail" | "webhook") => change(post("AlertsPage", `${base}/trial`, { channel }));
  const said = (channel: "mail" | "webhook") => page.trials.find((one) => one.channel === channel);
  return (
    <Section title="Sent to">
      <dl className="grid gap-x-8 gap-y-4 sm:grid-cols-[140px_1fr_auto]">
        <dt className="text-soft">Email</dt>
        <dd className="leading-snug">
          {targets.addresses.length ? targets.addresses.join(", ") : "Nobody."}
          <span className="block text-sm text-soft">
            {server
              ? `By ${server.host}:${server.port} from ${server.sender}.`
              : "No mail server is set; without one no email is sent."}
          </span>
          <TrialWords of={said("mail")} />
        </dd>
        <dd className={page.may_change ? "flex flex-wrap items-start gap-3" : "hidden"}>
          <Addresses key={targets.addresses.join(" ")} base={base} page={page} change={change} />
          <MailServer key={JSON.stringify(server)} base={base} page={page} change={change} />
          {targets.addresses.length > 0 && server && (
            <Button onClick={() => trial("mail")}>Send a test email</Button>
          )}
        </dd>
        <dt className="text-soft">Webhook</dt>
        <dd className="leading-snug">
          <span className="break-all">{targets.webhook_url || "None."}</span>
          {targets.webhook_secret && (
            <span className="block text-sm text-soft">
              Signed by HMAC-SHA256 (RFC 9421) with{" "}
              <code className="break-all text-ink">{targets.webhook_secret}</code>
            </span>
          )}
          <TrialWords of={said("webhook")} />
        </dd>
        <dd className={page.may_change ? "flex flex-wrap items-start gap-3" : "hidden"}>
          <Webhook key={targets.webhook_url} base={base} page={page} change={change} />
          {targets.webhook_url && <Button onClick={() => trial("webhook")}>Send a test</Button>}
        </dd>
        <dt className="text-soft">Monitoring</dt>
        <dd className="leading-snug">
          <code className="break-all">{page.metrics_path}</code>
          <span className="block text-sm text-soft">
            OpenMetrics, to whoever sends the token as Authorization: Bearer.{" "}
            {page.metrics_made_us
              ? `Token made ${ago(page.metrics_made_us)}.`
              : "No token is made: it is closed."}
          </span>
        </dd>
        <dd className={page.may_change ? "" : "hidden"}>
          <Monitoring base={base} page={page} change={change} />
        </dd>
      </dl>
    </Section>
  );
}

function TrialWords({ of }: { of: Model<"DeliveryView"> | undefined }) {
  if (!of) return null;
  return (
    <span role="status" className="block text-sm">
      {deliveryWords(of)}
    </span>
  );
}

function targetsForm(page: Page): Model<"AlertTargetsForm"> {
  return { addresses: page.targets.addresses, webhook_url: page.targets.webhook_url };
}

function Addresses({ base, page, change }: Props) {
  const [text, setText] = useState(page.targets.addresses.join("\n"));
  return (
    <Popup
      label="Email addresses"
      trigger={<Button>Addresses …</Button>}
      confirm="Save"
      onConfirm={() =>
        changed(
          change,
          put("AlertsPage", `${base}/targets`, {
            ...targetsForm(page),
            addresses: text.split(/[\s,;]+/).filter(Boolean),
          }),
        )
      }
    >
      <TextAreaField label="Addresses, one a line" value={text} onChange={setText} />
    </Popup>
  );
}

function Webhook({ base, page, change }: Props) {
  const [url, setUrl] = useState(page.targets.webhook_url);
  return (
    <Popup
      label="Webhook"
      trigger={<Button>Webhook …</Button>}
      confirm="Save"
      onConfirm={() =>
        changed(change, put("AlertsPage", `${base}/targets`, { ...targetsForm(page), webhook_url: url }))
      }
    >
      <TextField
        label="Address that takes JSON by POST; empty for none"
        value={url}
        onChange={setUrl}
        placeholder="https://hooks.example/alerts"
        hint="Another address gets another secret."
      />
    </Popup>
  );
}

const SECURITY = [
  ["starttls", "STARTTLS"],
  ["tls", "TLS from the first byte"],
  ["none", "Not encrypted"],
] as const;
const PORTS: Record<string, number> = { starttls: 587, tls: 465, none: 25 };

function MailServer({ base, page, change }: Props) {
  const before = page.mail_server;
  const [host, setHost] = useState(before?.host ?? "");
  const [port, setPort] = useState<number | null>(before?.port ?? 587);
  const [security, setSecurity] = useState<string>(before?.security ?? "starttls");
  const [user, setUser] = useState(before?.user_name ?? "");
  const [password, setPassword] = useState("");
  const [sender, setSender] = useState(before?.sender ?? "");
  const form: Model<"MailServerForm"> = {
    host,
    port: port ?? 0,
    security: security as Model<"MailServerForm">["security"],
    user_name: user,
    password: password || null,
    sender,
  };
  return (
    <Popup
      label="Mail server"
      trigger={<Button>Mail server …</Button>}
      confirm="Save"
      onConfirm={() => changed(change, put("AlertsPage", `${base}/mail-server`, form))}
    >
      <p className="leading-snug">One for this whole installation. Leave the name empty to send no email.</p>
      <TextField label="Mail server (SMTP)" value={host} onChange={setHost} placeholder="mail.example" />
      <div className="grid grid-cols-2 gap-3">
        <SelectField
          label="Encryption"
          value={security}
          options={SECURITY}
          onChange={(next) => {
            if (port === PORTS[security]) setPort(PORTS[next] ?? port);
            setSecurity(next);
          }}
        />
        <NumberField label="Port" value={port} onChange={setPort} />
      </div>
      <TextField label="Sender" value={sender} onChange={setSender} placeholder="tarnfell@customer.example" />
      <TextField label="User name; empty for none" value={user} onChange={setUser} />
      <TextField
        label="Password"
        value={password}
        onChange={setPassword}
        secret
        {...(before?.has_password ? { hint: "Leave it empty to keep the one that is set." } : {})}
      />
    </Popup>
  );
}

function Monitoring({ base, page, change }: Props) {
  const [token, setToken] = useState<string | null>(null);
  return (
    <Popup
      label="Monitoring"
      trigger={<Button>Token …</Button>}
      confirm={page.metrics_made_us ? "Make another token" : "Make a token"}
      onConfirm={async () => {
        const made = await post("MetricsToken", `${base}/metrics-token`, {});
        setToken(made.token);
        await change(get("AlertsPage", base));
        // It stays open: the token is shown this once.
        throw new Error("Copy the token now; it is not shown again.");
      }}
      also={
        page.metrics_made_us
          ? {
              label: "Close it to monitoring",
              act: async () => {
                setToken(null);
                await changed(change, remove("AlertsPage", `${base}/metrics-token`));
              },
            }
          : undefined
      }
    >
      <p className="leading-snug">
        A monitoring program reads how probes, watches, calls and alerts stand. Another token closes the one
        before.
      </p>
      {token && <code className="block break-all border border-soft bg-paper p-2">{token}</code>}
    </Popup>
  );
}
