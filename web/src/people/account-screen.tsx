// One's own account: name, password, and where one is signed in.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Model, put, remove } from "../api/client";
import { Button, Note, Section } from "../ui/controls";
import { TextField } from "../ui/fields";
import { ago } from "../ui/format";
import { useLivePage } from "../ui/live-page";
import { Popup } from "../ui/popup";
import { Pending, Trail } from "../ui/screen";

type Page = Model<"AccountPage">;

export function AccountScreen() {
  const queries = useQueryClient();
  const { page, problem, change } = useLivePage("AccountPage", "/api/account", () => false);
  if (!page.data) return <Pending what="your account" error={page.error} />;
  const { data } = page;
  const keep = async (asked: Promise<Page>) => {
    const answer = await asked;
    await change(Promise.resolve(answer));
    await queries.invalidateQueries({ queryKey: ["session"] });
  };
  return (
    <>
      <Trail steps={[["/", "Today"]]} title="Your account" />
      <h1 className="mt-2 text-3xl tracking-tight">Your account</h1>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <Section title="You">
        <p>
          {data.name} <span className="text-soft">{data.email}</span>
        </p>
        <div className="mt-3 flex flex-wrap gap-3">
          <Name name={data.name} onSave={(name) => keep(put("AccountPage", "/api/account", { name }))} />
          <Password
            onSave={(before, password) =>
              keep(put("AccountPage", "/api/account/password", { before, password }))
            }
          />
        </div>
      </Section>
      <ShownToYou />
      <Section title="Signed in" aside="the newest first">
        <ul>
          {data.sessions.map((one) => (
            <li key={one.id} className="hair flex flex-wrap items-baseline gap-x-4 border-t py-1.5">
              <span>
                {browserOf(one.browser)}, {one.peer}
              </span>
              <span className="text-sm text-soft">
                {one.this ? "here, now" : `last seen ${ago(one.seen_us)}`}; signed in {ago(one.began_us)}
              </span>
              {!one.this && (
                <button
                  type="button"
                  className="text-sm underline underline-offset-3"
                  onClick={() => change(remove("AccountPage", `/api/account/sessions/${one.id}`))}
                >
                  End
                </button>
              )}
            </li>
          ))}
        </ul>
      </Section>
    </>
  );
}

/** Engagements of others, in which one is a customer. */
function ShownToYou() {
  const { data } = useQuery({ queryKey: ["shown"], queryFn: () => get("ShownList", "/api/shown") });
  if (!data?.engagements.length) return null;
  return (
    <Section title="Shown to you as a customer">
      <ul>
        {data.engagements.map((one) => (
          <li key={one.slug}>
            <Link className="underline underline-offset-3" to={`/engagements/${one.slug}/shown`}>
              {one.name}
            </Link>
          </li>
        ))}
      </ul>
    </Section>
  );
}

const BROWSERS = [
  ["Edg/", "Edge"],
  ["Firefox/", "Firefox"],
  ["Chrome/", "Chromium"],
  ["Safari/", "Safari"],
] as const;
const SYSTEMS = [
  ["Android", "Android"],
  ["iPhone", "iPhone"],
  ["Windows", "Windows"],
  ["Mac OS", "macOS"],
  ["Linux", "Linux"],
] as const;

function browserOf(agent: string): string {
  const among = (known: readonly (readonly [string, string])[]) =>
    known.find(([sign]) => agent.includes(sign))?.[1];
  const [browser, system] = [among(BROWSERS), among(SYSTEMS)];
  if (!browser) return agent.slice(0, 40) || "An unnamed program";
  return system ? `${browser} on ${system}` : browser;
}

function Name({ name, onSave }: { name: string; onSave: (name: string) => Promise<void> }) {
  const [fresh, setFresh] = useState(name);
  return (
    <Popup
      label="Your name"
      trigger={<Button>Name …</Button>}
      confirm="Save"
      disabled={!fresh.trim()}
      onConfirm={() => onSave(fresh)}
    >
      <TextField label="Name" value={fresh} onChange={setFresh} />
    </Popup>
  );
}

function Password({ onSave }: { onSave: (before: string, password: string) => Promise<void> }) {
  const [before, setBefore] = useState("");
  const [password, setPassword] = useState("");
  const save = async () => {
    await onSave(before, password);
    setBefore("");
    setPassword("");
  };
  return (
    <Popup
      label="Change password"
      trigger={<Button>Change password …</Button>}
      confirm="Change password"
      disabled={!before || !password}
      onConfirm={save}
    >
      <TextField label="Password so far" secret value={before} onChange={setBefore} />
      <TextField
        label="New password"
        secret
        value={password}
        onChange={setPassword}
        hint="at least 10 characters; all other sessions end"
      />
    </Popup>
  );
}
