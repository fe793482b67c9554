// The page the customer sees, exactly; what the consultant writes into it; the reports that were issued, and their links.
import { useRef, useState } from "react";
import { Link } from "react-router";
import { type Model, post, put, remove } from "../../api/client";
import { Button, FileLink, Note, Section } from "../../ui/controls";
import { DocumentFile } from "../../ui/document-file";
import { TextField } from "../../ui/fields";
import { dateTime, plural } from "../../ui/format";
import { LETTER } from "../../ui/letter";
import { linkOf } from "../../ui/link";
import { useLivePage } from "../../ui/live-page";
import { Popup } from "../../ui/popup";
import { Pending, Trail } from "../../ui/screen";
import { scoreWords } from "../../ui/verdict";

type Page = Model<"ReportsPage">;
type Issued = Model<"IssuedView">;
type Change = (asked: Promise<Page>) => Promise<boolean>;

const AREA = "mt-0.5 block w-full border border-soft bg-raised px-2.5 py-1.5";

export function ReportScreen({ id }: { id: string }) {
  const frame = useRef<HTMLIFrameElement>(null);
  const path = `/api/sites/${id}/reports`;
  const { page, problem, change } = useLivePage(
    "ReportsPage",
    path,
    (one) => one.behind || isUnderWay(one) || one.issued.some((each) => !each.has_pdf),
  );
  if (!page.data) return <Pending what="the report" error={page.error} />;
  const { data } = page;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${data.engagement_slug}`, data.engagement_name],
          [`/sites/${id}`, data.site_name],
        ]}
        title={`Report, ${data.site_name}`}
      />
      <div className="mt-2 mb-4 flex flex-wrap items-end justify-between gap-8">
        <h1 className="text-3xl tracking-tight">Report</h1>
        <div className="flex flex-wrap gap-3">
          <FileLink href={`/api/sites/${id}/report.json`}>Figures, JSON</FileLink>
          <DocumentFile path={`/api/sites/${id}/report/csv`} words="Calls, CSV" format="CSV" />
          <Button onClick={() => frame.current?.contentWindow?.print()}>Print</Button>
          <DocumentFile path={`/api/sites/${id}/report/pdf`} words="Draft PDF" />
          {data.may_issue && (
            <Popup
              label="Issue the report"
              trigger={<Button act>Issue …</Button>}
              confirm="Issue"
              disabled={data.behind || isUnderWay(data)}
              onConfirm={() => asDone(change, post("ReportsPage", `/api/sites/${id}/report/issue`, {}))}
            >
              <p className="leading-snug">
                It gets a number and is never changed again, whatever comes later: page, figures and PDF.{" "}
                {data.issued.some((one) => one.state === "issued") && "It replaces the one before. "}
                {data.behind && "Evidence is still being judged; wait until that is done."}
              </p>
            </Popup>
          )}
        </div>
      </div>
      {problem && <Note>{problem}</Note>}
      {data.issuing?.state === "failed" && (
        <div className="mb-4">
          <Note>The report was not issued. {data.issuing.words}</Note>
        </div>
      )}
      <p role="status">
        {isUnderWay(data) && (data.issuing?.held_up ? data.issuing.words : "The report is being issued …")}
      </p>
      <IssuedReports reports={data.issued} zone={data.time_zone} change={change} mayIssue={data.may_issue} />
      <Section
        title="Draft"
        aside={data.behind ? "evidence is still being judged" : "as it would be issued now"}
      >
        <Written
          key={`${data.draft.summary}|${data.draft.note}`}
          page={data}
          onSave={(draft) => change(put("ReportsPage", `/api/sites/${id}/report/draft`, draft))}
        />
        <Heard
          page={data}
          onRemove={() => change(put("ReportsPage", `/api/sites/${id}/report/sound`, { call_id: null }))}
        />
        <iframe
          key={`${data.behind}${data.draft.summary}${data.draft.note}${JSON.stringify(data.sound)}`}
          ref={frame}
          title={`Readiness report of ${data.site_name}`}
          src={`/api/sites/${id}/report.html`}
          className="mt-4 h-[calc(100vh-120px)] min-h-[560px] w-full border border-ink bg-white"
        />
      </Section>
    </>
  );
}

function isUnderWay({ issuing }: Page): boolean {
  return issuing?.state === "waiting" || issuing?.state === "being made";
}

/** For a popup: it stays open where the server says something against it. */
async function asDone(change: Change, asked: Promise<Page>) {
  const answer = await asked;
  await change(Promise.resolve(answer));
}

function Written({ page, onSave }: { page: Page; onSave: (draft: Model<"DraftForm">) => Promise<boolean> }) {
  const [summary, setSummary] = useState(page.draft.summary ?? "");
  const [note, setNote] = useState(page.draft.note ?? "");
  const changed = summary !== page.draft.summary || note !== page.draft.note;
  return (
    <form
      className="grid gap-x-8 gap-y-3 lg:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        onSave({ summary, note });
      }}
    >
      <label>
        <span className="text-sm text-soft">Summary, a sentence a line; empty: as below</span>
        <textarea
          className={AREA}
          rows={4}
          maxLength={3000}
          value={summary}
          placeholder={page.by_itself.join("\n")}
          onChange={(event) => setSummary(event.target.value)}
        />
      </label>
      <label>
        <span className="text-sm text-soft">Notes of the consultant</span>
        <textarea
          className={AREA}
          rows={4}
          maxLength={6000}
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
      </label>
      <div className="flex flex-wrap items-center gap-4 lg:col-span-2">
        <Button type="submit" disabled={!changed}>
          Save
        </Button>
        {summary === "" && (
          <button
            type="button"
            className="text-sm underline underline-offset-3"
            onClick={() => setSummary(page.by_itself.join("\n"))}
          >
            Begin with what it says by itself
          </button>
        )}
      </div>
    </form>
  );
}

/** The call that its reader can hear. */
function Heard({ page, onRemove }: { page: Page; onRemove: () => void }) {
  const { sound } = page;
  if (!sound)
    return (
      <p className="mt-3 text-sm text-soft">
        Its reader hears no call. One is put in from the page of a call, under <em>Hear it</em>.
      </p>
    );
  return (
    <p className="mt-3 flex flex-wrap items-baseline gap-x-3">
      <span>
        Its reader can hear{" "}
        <Link className="underline underline-offset-3" to={`/calls/${sound.call_id}`}>
          {sound.words}
        </Link>
        , {sound.direction === "up" ? "from" : "to"} the site.
        {!sound.audible && " There is nothing to hear of it any more: the report leaves it out."}
      </span>
      <Button onClick={onRemove}>Leave it out</Button>
    </p>
  );
}

function IssuedReports(props: { reports: Issued[]; zone: string; change: Change; mayIssue: boolean }) {
  const { reports, zone, change, mayIssue } = props;
  if (reports.length === 0)
    return <p className="mb-6 text-soft">No report of this site has been issued yet.</p>;
  return (
    <Section title="Issued">
      <ul>
        {reports.map((one, i) => (
          <li
            key={one.id}
            className="hair grid gap-x-8 gap-y-2 border-t py-3 first:border-t-0 lg:grid-cols-[1fr_auto]"
          >
            <div className="leading-snug">
              <p>
                <b>{one.number}</b>{" "}
                <span className="ml-2">
                  {one.word}
                  {one.provisional && ", provisional"}, {scoreWords(one)}
                </span>{" "}
                <span className="ml-2 text-sm text-soft">
                  {dateTime(one.issued_us, zone)}
                  {one.issued_by && ` by ${one.issued_by}`}
                </span>
              </p>
              {one.state === "replaced" && <p className="text-sm">Replaced by {one.replaced_by}.</p>}
              {one.state === "withdrawn" && (
                <p className="border-l-4 border-ink pl-3 text-sm font-semibold">Withdrawn: {one.withdrawn}</p>
              )}
              <p className="text-sm">
                <a className="underline underline-offset-3" href={`/api/issued/${one.id}/report.html`}>
                  Page
                </a>
                {" · "}
                {one.has_pdf ? (
                  <a
                    className="underline underline-offset-3"
                    href={`/api/issued/${one.id}/report.pdf`}
                    download
                  >
                    PDF
                  </a>
                ) : (
                  <span className="text-soft">PDF is being made</span>
                )}
                {" · "}
                <a
                  className="underline underline-offset-3"
                  href={`/api/issued/${one.id}/report.json`}
                  download
                >
                  Figures, JSON
                </a>
                {one.has_calls && (
                  <>
                    {" · "}
                    <a
                      className="underline underline-offset-3"
                      href={`/api/issued/${one.id}/calls.csv`}
                      download
                    >
                      Calls, CSV
                    </a>
                  </>
                )}
                {reports[i + 1] && (
                  <>
                    {" · "}
                    <Link
                      className="underline underline-offset-3"
                      to={`/reports/compare?first=${reports[i + 1]?.id}&second=${one.id}`}
                    >
                      What changed since {reports[i + 1]?.number}
                    </Link>
                  </>
                )}
                <span className="ml-3 text-soft">SHA-256 {one.data_sha256.slice(0, 12)}…</span>
              </p>
              <Links report={one} zone={zone} change={change} mayIssue={mayIssue} />
            </div>
            <div className="flex flex-wrap items-start gap-3">
              {mayIssue && <Share report={one} change={change} />}
              {mayIssue && one.state !== "withdrawn" && <Withdraw report={one} change={change} />}
            </div>
          </li>
        ))}
      </ul>
      <Verify />
    </Section>
  );
}

function Links(props: { report: Issued; zone: string; change: Change; mayIssue: boolean }) {
  const { report, zone, change, mayIssue } = props;
  if (report.links.length === 0) return null;
  return (
    <ul className="mt-1 text-sm">
      {report.links.map((link) => (
        <li key={link.id} className="flex flex-wrap items-baseline gap-x-3">
          <span>
            Link for {link.name}
            {link.has_passphrase && ", with a passphrase"}:{" "}
            {link.opened > 0 && link.last_opened_us !== null
              ? `opened ${plural(link.opened, "time")}, last ${dateTime(link.last_opened_us, zone)}`
              : "not opened yet"}
            {link.letter && `; ${LETTER[link.letter]} to ${link.email}`}
            {link.failure && ` (${link.failure})`}
            {link.revoked ? "; ended" : link.good ? `; until ${dateTime(link.until_us, zone)}` : "; expired"}
          </span>
          {link.good && (
            <>
              <a className="underline underline-offset-3" href={linkOf(link)}>
                Open
              </a>
              <button
                type="button"
                className="underline underline-offset-3"
                onClick={() => navigator.clipboard?.writeText(linkOf(link))}
              >
                Copy
              </button>
              {mayIssue && (
                <button
                  type="button"
                  className="underline underline-offset-3"
                  onClick={() => change(remove("ReportsPage", `/api/issued/${report.id}/links/${link.id}`))}
                >
                  End
                </button>
              )}
            </>
          )}
        </li>
      ))}
    </ul>
  );
}

function Share({ report, change }: { report: Issued; change: Change }) {
  const [name, setName] = useState("");
  const [email, setEmail] = useState("");
  const [days, setDays] = useState("30");
  const [passphrase, setPassphrase] = useState("");
  return (
    <Popup
      label={`Share report ${report.number}`}
      trigger={<Button>Share …</Button>}
      confirm="Make the link"
      onConfirm={async () => {
        const form = { name, email, days: Number(days) || 30, passphrase };
        await asDone(change, post("ReportsPage", `/api/issued/${report.id}/links`, form));
        setName("");
        setEmail("");
        setPassphrase("");
      }}
    >
      <p className="leading-snug">
        Whoever has the link reads this report, and nothing else, without signing in.
      </p>
      <TextField label="For whom" value={name} onChange={setName} />
      <TextField label="Email it to; empty: you hand it over" value={email} onChange={setEmail} />
      <TextField label="Days it opens" value={days} onChange={setDays} />
      <TextField
        label="Passphrase, told by another way; empty: none"
        value={passphrase}
        onChange={setPassphrase}
        secret
      />
    </Popup>
  );
}

function Withdraw({ report, change }: { report: Issued; change: Change }) {
  const [reason, setReason] = useState("");
  return (
    <Popup
      label={`Withdraw report ${report.number}`}
      trigger={<Button>Withdraw …</Button>}
      confirm="Withdraw"
      onConfirm={() => asDone(change, post("ReportsPage", `/api/issued/${report.id}/withdraw`, { reason }))}
    >
      <p className="leading-snug">
        It stays as it was issued. Whoever opens it by a link is told that it was withdrawn, and why.
      </p>
      <TextField label="Why" value={reason} onChange={setReason} />
    </Popup>
  );
}

/** The file does not leave the machine: its digest does. */
function Verify() {
  const [says, setSays] = useState("");
  const check = async (file: File | undefined) => {
    if (!file) return;
    try {
      const digest = await crypto.subtle.digest("SHA-256", await file.arrayBuffer());
      const sha256 = Array.from(new Uint8Array(digest), (byte) => byte.toString(16).padStart(2, "0")).join(
        "",
      );
      setSays((await post("Verified", "/api/issued/verify", { sha256 })).says);
    } catch (error) {
      setSays((error as Error).message);
    }
  };
  return (
    <p className="hair mt-1 border-t pt-3 text-sm">
      <label>
        <span className="text-soft">Is a file one of these, unchanged? </span>
        <input type="file" className="text-sm" onChange={(event) => check(event.target.files?.[0])} />
      </label>
      <span className="block font-semibold" role="status">
        {says}
      </span>
    </p>
  );
}
