// Tests from a browser: the links that were sent, whether they were opened, what came of them, and whether they count.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Model, post, put, remove } from "../../api/client";
import { Button, Field, INPUT, Note } from "../../ui/controls";
import { dateTime, plural, withUnit } from "../../ui/format";
import { linkOf } from "../../ui/link";
import { slowing } from "../../ui/polling";
import { Hops } from "../../ui/reach";
import { Pending, Trail } from "../../ui/screen";
import { Fills, Runs } from "./browser-link-results";
import { Relay } from "./relay";

type Links = Model<"BrowserLinks">;
type LinkOf = Model<"BrowserLinkView">;

const PACE = slowing(2000);
const CALLS = 5;
const SECONDS = 30;
const FILL_SECONDS = [5, 10, 20];

export function BrowserLinksScreen({ id: slug }: { id: string }) {
  const path = `/api/sites/${slug}/browser-links`;
  const key = ["browser-links", slug];
  const queries = useQueryClient();
  const page = useQuery({ queryKey: key, queryFn: () => get("BrowserLinks", path), refetchInterval: PACE });
  const change = useMutation({
    mutationFn: (what: () => Promise<Links>) => what(),
    onSuccess: (fresh) => queries.setQueryData(key, fresh),
  });
  const links = page.data;
  if (!links) return <Pending what="the links" error={page.error} />;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${links.engagement_slug}`, links.engagement_name],
          [`/sites/${slug}`, links.site_name],
          [`/sites/${slug}/place`, "Place"],
        ]}
        title="Tests from a browser"
      />
      <h1 className="mt-2 text-3xl tracking-tight">Tests from a browser</h1>
      <p className="mt-1 max-w-[75ch] leading-snug text-soft">
        Where nothing may be installed, a link is enough: whoever opens it places test calls from that browser
        to a far end, packet by packet, both ways. It is one device, often on Wi-Fi, at one minute. It shows
        that a desk has trouble sooner than it shows that a site has none.
      </p>
      {change.error && (
        <div className="mt-4">
          <Note>{change.error.message}</Note>
        </div>
      )}
      {links.far_ends.length === 0 && (
        <div className="mt-4">
          <Note>
            No far end is chosen that a browser can be sent to. Under{" "}
            <Link className="underline underline-offset-3" to={`/sites/${slug}/place`}>
              Place
            </Link>{" "}
            choose one on a host or beside this server, started with <code>--browser</code>.
          </Note>
        </div>
      )}
      <Counts
        links={links}
        save={(counts) =>
          change.mutate(() => put("BrowserLinks", `/api/sites/${slug}/browser-counts`, { counts }))
        }
      />
      <NewLink links={links} save={(form) => change.mutate(() => post("BrowserLinks", path, form))} />
      <h2 className="mt-8 text-lg">Links</h2>
      {links.links.length === 0 && <p className="mt-2 text-soft">None yet.</p>}
      <ul className="mt-2">
        {links.links.map((one) => (
          <li key={one.probe_id} className="border-t border-hair py-3">
            <OneLink
              one={one}
              zone={links.time_zone}
              slug={slug}
              renew={() => change.mutate(() => post("BrowserLinks", `${path}/${one.probe_id}/link`, {}))}
              revoke={() => change.mutate(() => remove("BrowserLinks", `${path}/${one.probe_id}/link`))}
              away={() => change.mutate(() => remove("BrowserLinks", `${path}/${one.probe_id}`))}
            />
          </li>
        ))}
      </ul>
      <Relay engagement={links.engagement_slug} name={links.engagement_name} />
    </>
  );
}

function Counts({ links, save }: { links: Links; save: (counts: boolean) => void }) {
  return (
    <div className="mt-6 max-w-[75ch]">
      <label className="flex items-baseline gap-2">
        <input type="checkbox" checked={links.counts} onChange={(event) => save(event.target.checked)} />
        <span>Count calls from browsers for this site’s verdict, like those of a probe</span>
      </label>
      <p className="mt-1 text-sm text-soft">
        {links.counts
          ? "They count into moments, causes and the score. Those that the browser spoiled itself never do."
          : links.not_counted > 0
            ? `${plural(links.not_counted, "call")} from browsers ${links.not_counted === 1 ? "is" : "are"} shown and not counted.`
            : "They are shown beside the site’s other runs, and the verdict leaves them out."}
      </p>
    </div>
  );
}

function NewLink({ links, save }: { links: Links; save: (form: object) => void }) {
  const points = Object.entries(links.test_points);
  const [name, setName] = useState("");
  const [point, setPoint] = useState(points[0]?.[0] ?? "");
  const [calls, setCalls] = useState(String(CALLS));
  const [seconds, setSeconds] = useState(String(SECONDS));
  const [fill, setFill] = useState("0");
  if (points.length === 0)
    return <p className="mt-6">Add a test point under Place first: a link belongs to one.</p>;
  return (
    <form
      className="mt-6 border border-hair bg-raised p-4"
      onSubmit={(event) => {
        event.preventDefault();
        save({
          name,
          test_point_id: Number(point),
          calls: Number(calls),
          seconds: Number(seconds),
          fill_s: Number(fill),
        });
        setName("");
      }}
    >
      <h2 className="text-lg">A new link</h2>
      <div className="mt-2 grid gap-3 sm:grid-cols-[2fr_2fr_1fr_1fr]">
        <Field label="For whom, or which desk">
          <input
            className={INPUT}
            required
            maxLength={80}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <Field label="Test point">
          <select className={INPUT} value={point} onChange={(e) => setPoint(e.target.value)}>
            {points.map(([id, words]) => (
              <option key={id} value={id}>
                {words}
              </option>
            ))}
          </select>
        </Field>
        <Field label={`Calls at once (to ${links.most_calls})`}>
          <input
            className={INPUT}
            type="number"
            required
            min={1}
            max={links.most_calls}
            value={calls}
            onChange={(e) => setCalls(e.target.value)}
          />
        </Field>
        <Field label="Seconds (10 to 120)">
          <input
            className={INPUT}
            type="number"
            required
            min={10}
            max={120}
            value={seconds}
            onChange={(e) => setSeconds(e.target.value)}
          />
        </Field>
      </div>
      <div className="mt-3 max-w-[75ch]">
        <Field
          label="Then fill the line"
          hint={
            links.no_fill ??
            "Streams between that browser and this server, up and then down, with one call beside them. People at the site notice; whoever opens the link is told."
          }
        >
          {(hintId) => (
            <select
              aria-describedby={hintId}
              className={`${INPUT} max-w-56`}
              disabled={links.no_fill !== null}
              value={fill}
              onChange={(e) => setFill(e.target.value)}
            >
              <option value="0">no</option>
              {FILL_SECONDS.map((s) => (
                <option key={s} value={s}>
                  for {withUnit(s, "s")} each way
                </option>
              ))}
            </select>
          )}
        </Field>
      </div>
      <p className="mt-3">
        <Button act={links.links.length === 0} type="submit">
          Create the link
        </Button>
      </p>
    </form>
  );
}

interface Deeds {
  renew: () => void;
  revoke: () => void;
  away: () => void;
}

function OneLink({
  one,
  zone,
  slug,
  renew,
  revoke,
  away,
}: { one: LinkOf; zone: string; slug: string } & Deeds) {
  const invitation = one.invitation;
  const open = invitation?.state === "open";
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-semibold">{one.name}</span>
        <span className="text-soft">
          {one.test_point} · {plural(one.calls, "call")} of {withUnit(one.seconds, "s")}, {one.codec_title}
          {one.fill_s > 0 && `, then the line filled for ${withUnit(one.fill_s, "s")} each way`}
        </span>
      </p>
      <p className="mt-1 text-sm text-soft">{stateOf(one, zone)}</p>
      {open && invitation && (
        <p data-link className="mt-1 break-all font-mono text-[13px]">
          {linkOf(invitation)}
        </p>
      )}
      {one.runs.length > 0 && <Runs runs={one.runs} beside={one.beside} zone={zone} />}
      {one.way && (one.runs.length > 0 || one.fills.length > 0) && (
        <details className="mt-1 max-w-[62ch] text-sm">
          <summary className="cursor-pointer">The way from {one.way.probe}, at the same desk</summary>
          <p className="leading-snug">
            Checked {dateTime(one.way.at_us, zone)}; {one.way.address}{" "}
            {one.way.reached ? "answered" : "was not reached"}. A browser cannot look for the way itself.
          </p>
          <Hops hops={one.way.hops} title={`From ${one.way.probe} towards the far end`} />
        </details>
      )}
      {one.fills.length > 0 && <Fills fills={one.fills} zone={zone} slug={slug} />}
      <p className="mt-2 flex flex-wrap gap-2">
        {open && invitation && (
          <Button onClick={() => navigator.clipboard.writeText(linkOf(invitation))}>Copy the link</Button>
        )}
        <Button onClick={renew}>{open ? "New link" : "Create a link again"}</Button>
        {open && <Button onClick={revoke}>Revoke</Button>}
        <Button onClick={away}>Put away</Button>
      </p>
    </>
  );
}

function stateOf(one: LinkOf, zone: string): string {
  const invitation = one.invitation;
  if (!invitation) return "It has no link.";
  const opened = invitation.opened_us ? `Opened ${dateTime(invitation.opened_us, zone)}` : "Not opened yet";
  const tests = one.runs.length ? plural(one.runs.length, "test") : "no test yet";
  const until = {
    open: `works until ${dateTime(invitation.until_us, zone)}`,
    expired: "expired",
    revoked: "revoked",
    used: "used",
  }[invitation.state];
  return `${opened}; ${tests}; ${until}.`;
}
