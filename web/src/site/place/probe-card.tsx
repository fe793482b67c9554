// One probe: how it is and what to try, its link, what it told of its surroundings, what it was told to do.
import { useState } from "react";
import { Link } from "react-router";
import type { Model } from "../../api/client";
import { Button } from "../../ui/controls";
import { SelectField, TextField } from "../../ui/fields";
import { ago, clock, dateTime, withUnit } from "../../ui/format";
import { linkOf } from "../../ui/link";
import { Popup } from "../../ui/popup";
import { Wide } from "../../ui/wide";
import type { Ask, Change } from "./use-places";

type Probe = Model<"ProbeCard">;
type Page = Model<"PlacePage">;

interface Props {
  slug: string;
  probe: Probe;
  page: Page;
  ask: Ask;
  change: Change;
}

export function ProbeCard({ slug, probe, page, ask, change }: Props) {
  const tell = (kind: string) => change("post", `probes/${probe.id}/jobs`, { kind });
  const enrolled = probe.enrolled_us !== null;
  return (
    <article className="mb-7" aria-label={probe.name}>
      <h3 className="flex flex-wrap items-baseline gap-3 text-lg">
        {probe.name}
        <span className="text-base font-normal">
          {probe.state}
          {probe.last_contact_us !== null && (
            <span className="text-soft">
              {probe.state === "online"
                ? ` ${ago(probe.last_contact_us)}`
                : ` since ${dateTime(probe.last_contact_us, page.time_zone)}`}
              {probe.contact_address && `, from ${probe.contact_address}`}
            </span>
          )}
        </span>
      </h3>
      {probe.state !== "online" && <p className="leading-snug">{probe.says}</p>}
      <Invitation probe={probe} page={page} change={change} />
      {enrolled && <Around probe={probe} />}
      {probe.watch && (
        <p className="mt-2 text-sm">
          <span className="text-soft">Watch of the way to {probe.watch.far_end}: </span>
          {probe.watch.says}
        </p>
      )}
      <div className="mt-2.5 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-sm [&>a]:underline [&>a]:underline-offset-3 [&>button]:underline [&>button]:underline-offset-3">
        {enrolled && (
          <>
            <Link to={`/sites/${slug}/watch`}>Watch for days</Link>
            <button type="button" onClick={() => tell("distances")}>
              Check reachability and round trip
            </button>
            <button type="button" onClick={() => tell(probe.answers ? "silence" : "answer")}>
              {probe.answers ? "Stop answering calls" : "Answer calls from other test points"}
            </button>
            {probe.outdated && (
              <button type="button" onClick={() => tell("update")}>
                Update its software
              </button>
            )}
          </>
        )}
        <EditProbe probe={probe} page={page} ask={ask} />
        <Popup
          label="Retire probe"
          trigger={<button type="button">Retire probe …</button>}
          confirm="Retire probe"
          onConfirm={() => ask("post", `probes/${probe.id}/jobs`, { kind: "end" })}
        >
          <p className="leading-snug">
            {enrolled
              ? `${probe.name} hands over what it has, clears up after itself and ends. Its evidence stays here.`
              : "Its link stops working. Nothing else is lost."}
          </p>
        </Popup>
      </div>
      <History probe={probe} page={page} />
    </article>
  );
}

function Invitation({ probe, page, change }: { probe: Probe; page: Page; change: Change }) {
  const [copied, setCopied] = useState(false);
  const { invitation } = probe;
  const renew = () => change("post", `probes/${probe.id}/link`);
  if (invitation?.state === "open") {
    const address = linkOf(invitation);
    return (
      <div className="mt-2 border-l-4 border-act bg-raised py-2.5 pr-3 pl-4">
        <p className="font-mono text-[13px] break-all">
          <a href={address} className="underline underline-offset-3">
            {address}
          </a>
        </p>
        <p className="mt-1 text-sm text-soft">
          Works once, until {dateTime(invitation.until_us, page.time_zone)}
          {invitation.fetched_us
            ? ` · file fetched ${ago(invitation.fetched_us)}`
            : invitation.opened_us
              ? ` · opened ${ago(invitation.opened_us)}`
              : " · not opened yet"}
        </p>
        <div className="mt-2 flex flex-wrap items-center gap-4 text-sm">
          <Button act onClick={async () => setCopied(await copy(address))}>
            {copied ? "Copied" : "Copy link"}
          </Button>
          <button
            type="button"
            className="underline underline-offset-3"
            onClick={() => change("remove", `probes/${probe.id}/link`)}
          >
            Revoke link
          </button>
        </div>
      </div>
    );
  }
  if (probe.state === "online") return null;
  return (
    <p className="mt-2">
      {invitation?.state === "revoked" && "Its link was revoked. "}
      {invitation?.state === "expired" && "Its link has expired. "}
      <Button onClick={renew}>
        {probe.enrolled_us ? "New link for another computer" : "Create a new link"}
      </Button>
    </p>
  );
}

/** False where the browser keeps the clipboard to itself, as on plain HTTP: the link then stands there selected. */
async function copy(text: string): Promise<boolean> {
  try {
    await navigator.clipboard.writeText(text);
    return true;
  } catch {
    const shown = [...document.querySelectorAll("a")].find((a) => a.href === text);
    if (shown) getSelection()?.selectAllChildren(shown);
    return false;
  }
}

function Around({ probe }: { probe: Probe }) {
  const { around } = probe;
  const link = [
    around.interface,
    around.medium,
    around.link_mbps && withUnit(around.link_mbps, "Mbit/s"),
    around.duplex && `${around.duplex} duplex`,
    around.wifi_signal_dbm !== null && `signal ${around.wifi_signal_dbm} dBm`,
    around.mtu && `MTU ${around.mtu}`,
  ];
  const time = [
    around.time_source,
    around.clock_synchronised === null
      ? null
      : around.clock_synchronised
        ? "synchronised"
        : "not synchronised",
  ];
  const rows: [string, string][] = [
    ["Addresses", around.addresses.join(", ")],
    ["Gateway", [around.gateway, around.dhcp === "yes" && "address by DHCP"].filter(Boolean).join(", ")],
    ["Name servers", around.name_servers.join(", ")],
    ["Link", link.filter(Boolean).join(", ")],
    ["Clock", time.filter(Boolean).join(", ")],
    ["System", [around.system, around.python && `Python ${around.python}`].filter(Boolean).join(", ")],
    ["Cannot", around.cannot.join("; ")],
  ];
  return (
    <dl className="mt-2 grid grid-cols-[110px_1fr] gap-x-3 text-sm leading-6">
      {rows
        .filter(([, value]) => value)
        .map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd className="break-words">{value}</dd>
          </div>
        ))}
    </dl>
  );
}

function EditProbe({ probe, page, ask }: { probe: Probe; page: Page; ask: Ask }) {
  const [name, setName] = useState(probe.name);
  const [testPoint, setTestPoint] = useState(String(probe.test_point_id));
  return (
    <Popup
      label="Rename or move"
      trigger={<button type="button">Rename or move …</button>}
      confirm="Save"
      disabled={!name.trim()}
      onConfirm={() => ask("put", `probes/${probe.id}`, { name, test_point_id: Number(testPoint) })}
    >
      <TextField label="Name of the probe" value={name} onChange={setName} />
      <SelectField
        label="Test point"
        value={testPoint}
        options={page.test_points.map((one) => [String(one.id), one.name] as const)}
        onChange={setTestPoint}
        hint="What it measured so far stays with the probe, not with the test point."
      />
    </Popup>
  );
}

/** Everything this probe was told, with its life: who asked, when it was taken, how it ended. */
function History({ probe, page }: { probe: Probe; page: Page }) {
  const [all, setAll] = useState(false);
  const shown = all ? probe.history : probe.history.slice(0, 3);
  if (shown.length === 0) return null;
  const time = (us: number | null) => (us === null ? "–" : clock(us, page.time_zone));
  return (
    <>
      <Wide label="Tasks of this probe">
        <table className="mt-3 w-full text-sm">
          <thead>
            <tr className="text-left text-soft [&>th]:pr-3 [&>th]:font-normal">
              <th>Task</th>
              <th>Requested</th>
              <th>Started</th>
              <th>Finished</th>
              <th>Result</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((told) => (
              <tr
                key={`${told.what} ${told.asked_us}`}
                className="hair border-t align-top [&>td]:py-1 [&>td]:pr-3"
              >
                <td>
                  {told.run_id === null ? (
                    told.what
                  ) : (
                    <Link to={`/runs/${told.run_id}`} className="underline underline-offset-3">
                      {told.what}
                    </Link>
                  )}
                </td>
                <td className="whitespace-nowrap">
                  {dateTime(told.asked_us, page.time_zone)}
                  {told.asked_by && <span className="block text-soft">{told.asked_by}</span>}
                </td>
                <td>{time(told.taken_us)}</td>
                <td>{time(told.ended_us)}</td>
                <td>{told.outcome || (told.state === "taken" ? "in progress" : told.state)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      {probe.history.length > 3 && (
        <button
          type="button"
          className="mt-1 text-sm underline underline-offset-3"
          onClick={() => setAll(!all)}
        >
          {all ? "Only the newest" : `All of the last ${probe.history.length}`}
        </button>
      )}
    </>
  );
}
