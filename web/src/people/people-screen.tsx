// Who belongs to an engagement and as what, who is invited, what its customers see, and who did what.
import { useState } from "react";
import { Link } from "react-router";
import { type Model, post, put, remove } from "../api/client";
import { Button, FileLink, Note, Section } from "../ui/controls";
import { SelectField, TextField } from "../ui/fields";
import { ago, dateTime } from "../ui/format";
import { LETTER } from "../ui/letter";
import { useLivePage } from "../ui/live-page";
import { Popup } from "../ui/popup";
import { Pending, Trail } from "../ui/screen";
import { Wide } from "../ui/wide";
import { Deeds } from "./deeds";

type Page = Model<"PeoplePage">;
type Role = Page["members"][number]["role"];

const ROLES: [Role, string][] = [
  ["consultant", "consultant"],
  ["colleague", "colleague"],
  ["customer", "customer"],
];
const MAY: Record<Role, string> = {
  consultant: "does everything, issues reports, invites people",
  colleague: "measures and judges, issues nothing, invites nobody",
  customer: "reads what was issued and what is shown to customers",
};

export function PeopleScreen({ id }: { id: string }) {
  const path = `/api/engagements/${id}/people`;
  const { page, problem, change } = useLivePage("PeoplePage", path, (of) =>
    of.invited.some((one) => one.letter === "waiting"),
  );
  const [link, setLink] = useState("");
  if (!page.data) return <Pending what="the people" error={page.error} />;
  const { data } = page;
  const invite = async (email: string, role: Role) => {
    const answer = await post("PeoplePage", `/api/engagements/${id}/invitations`, { email, role });
    setLink(answer.link);
    await change(Promise.resolve(answer));
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${id}`, data.engagement_name],
        ]}
        title="People"
      />
      <h1 className="mt-2 text-3xl tracking-tight">People of {data.engagement_name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Nobody else sees this engagement.{" "}
        {data.may_change ? "" : "A consultant of it may change who belongs to it."}
      </p>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      <Section title="Members">
        <Wide label="Members">
          <table className="w-full [&_td]:pr-6 [&_th]:pr-6 [&_th]:text-left">
            <thead>
              <tr className="text-sm text-soft [&>th]:pb-1 [&>th]:font-normal">
                <th>Name</th>
                <th>Email address</th>
                <th>Role</th>
                <th>May</th>
                <th>Since</th>
                <th>
                  <span className="sr-only">Change</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {data.members.map((one) => (
                <tr key={one.user_id} className="hair border-t [&>*]:py-2">
                  <th className="font-normal">
                    {one.name}
                    {one.you && <span className="text-soft"> (you)</span>}
                  </th>
                  <td className="break-all">{one.email}</td>
                  <td>
                    {data.may_change ? (
                      <select
                        aria-label={`Role of ${one.name}`}
                        className="border border-soft bg-raised px-1.5 py-0.5"
                        value={one.role}
                        onChange={(event) =>
                          change(put("PeoplePage", `${path}/${one.user_id}`, { role: event.target.value }))
                        }
                      >
                        {ROLES.map(([role, words]) => (
                          <option key={role} value={role}>
                            {words}
                          </option>
                        ))}
                      </select>
                    ) : (
                      one.role
                    )}
                  </td>
                  <td className="text-sm text-soft">{MAY[one.role]}</td>
                  <td className="text-sm whitespace-nowrap">{ago(one.since_us)}</td>
                  <td className="text-right">
                    {data.may_change && !one.you && (
                      <button
                        type="button"
                        className="text-sm underline underline-offset-3"
                        onClick={() => change(remove("PeoplePage", `${path}/${one.user_id}`))}
                      >
                        Remove
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
        {data.may_change && (
          <div className="mt-4 flex flex-wrap items-center gap-4">
            <Invite mails={data.mails} onInvite={invite} />
            {!data.mails && (
              <span className="text-sm text-soft">
                No mail server is set (page Alerts): you hand over the link yourself.
              </span>
            )}
          </div>
        )}
        {link && <FreshLink path={link} mailed={data.mails} />}
        {data.invited.length > 0 && (
          <ul className="mt-4">
            {data.invited.map((one) => (
              <li key={one.id} className="hair flex flex-wrap items-baseline gap-x-4 border-t py-1.5">
                <span className="break-all">{one.email}</span>
                <span className="text-sm text-soft">
                  invited as {one.role}
                  {one.by && ` by ${one.by}`} {ago(one.made_us)}, until {dateTime(one.expires_us, zoneHere())}
                  {one.letter && `; ${LETTER[one.letter]}`}
                  {one.failure && ` (${one.failure})`}
                </span>
                {data.may_change && (
                  <button
                    type="button"
                    className="text-sm underline underline-offset-3"
                    onClick={() => {
                      setLink("");
                      return change(remove("PeoplePage", `/api/engagements/${id}/invitations/${one.id}`));
                    }}
                  >
                    Revoke
                  </button>
                )}
              </li>
            ))}
          </ul>
        )}
      </Section>
      <Section title="Shown to customers">
        <p className="max-w-3xl leading-snug">
          Customers read every report that was issued, in this engagement only.{" "}
          {data.live
            ? "They also see how each site stands now: verdict, score and the week behind it."
            : "How a site stands now they do not see."}
        </p>
        <div className="mt-3 flex flex-wrap items-center gap-4">
          {data.may_change && (
            <Button
              onClick={() => change(put("PeoplePage", `/api/engagements/${id}/live`, { live: !data.live }))}
            >
              {data.live ? "Show only issued reports" : "Show how sites stand now"}
            </Button>
          )}
          <Link className="underline underline-offset-3" to={`/engagements/${id}/shown`}>
            See what customers see
          </Link>
        </div>
      </Section>
      {data.may_change && (
        <Section title="Who did what" aside="newest first">
          <Deeds id={id} asked={page.dataUpdatedAt} />
          <p className="mt-3">
            <FileLink href={`/api/engagements/${id}/trail.csv`}>All of it, CSV</FileLink>
          </p>
        </Section>
      )}
    </>
  );
}

/** These times are of people, not of a site. */
const zoneHere = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

function Invite(props: { mails: boolean; onInvite: (email: string, role: Role) => Promise<void> }) {
  const [email, setEmail] = useState("");
  const [role, setRole] = useState<Role>("colleague");
  const send = async () => {
    await props.onInvite(email, role);
    setEmail("");
  };
  return (
    <Popup
      label="Invite somebody"
      trigger={<Button>Invite …</Button>}
      confirm={props.mails ? "Send invitation" : "Create link"}
      disabled={!email.trim()}
      onConfirm={send}
    >
      <TextField label="Email address" value={email} onChange={setEmail} />
      <SelectField
        label="Role"
        value={role}
        onChange={(value) => setRole(value as Role)}
        options={ROLES}
        hint={MAY[role]}
      />
    </Popup>
  );
}

/** Shown once: only its hash is kept. */
function FreshLink({ path, mailed }: { path: string; mailed: boolean }) {
  const href = new URL(path, window.location.href).href;
  return (
    <div
      role="status"
      className="mt-4 max-w-3xl border-l-4 border-ink bg-raised py-2.5 pr-3 pl-4 leading-snug"
    >
      <p>
        {mailed ? "The invitation is on its way. " : ""}This link is shown once; it is good once, for that
        address, for 14 days.
      </p>
      <p className="mt-1 break-all">
        <code>{href}</code>
      </p>
      <p className="mt-2">
        <Button onClick={() => navigator.clipboard?.writeText(href)}>Copy link</Button>
      </p>
    </div>
  );
}
