// One imported file: its streams second by second, or its echoes in time; and what is said of it.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type Model, put, remove } from "../../api/client";
import { EchoPlot } from "../../charts/echo-plot";
import { Button, FileLink, Note, Section } from "../../ui/controls";
import { CheckField, SelectField, TextField } from "../../ui/fields";
import { count, dateTime, fixed, ms, pct, plural } from "../../ui/format";
import { Popup } from "../../ui/popup";
import { Pending, Trail } from "../../ui/screen";
import { StreamPart } from "./imported-stream";
import { ROLES, type Role } from "./roles";

type Page = Model<"ImportPage">;
type Stream = Model<"ImportedStream">;
type Echo = Model<"EchoView">;
/** Whether it was kept. */
type Change = (said: Partial<Model<"ImportChange">>) => Promise<void>;

export function ImportScreen({ id }: { id: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [problem, setProblem] = useState<string | null>(null);
  const answer = useQuery({
    queryKey: ["import", id],
    queryFn: () => get("ImportPage", `/api/imports/${id}`),
    refetchInterval: (query) => (query.state.data?.state === "reading" ? 1000 : false),
  });
  if (!answer.data) return <Pending what="the file" error={answer.error} />;
  const page = answer.data;
  const say: Change = async (said) => {
    await put("ImportMade", `/api/imports/${id}`, said);
    setProblem(null);
    await queries.invalidateQueries({ queryKey: ["import", id] });
    await queries.invalidateQueries({ queryKey: ["imports", page.site_slug] });
  };
  const change: Change = (said) => say(said).catch((error: Error) => setProblem(error.message));
  const drop = async () => {
    await remove("ImportMade", `/api/imports/${id}`);
    await queries.invalidateQueries({ queryKey: ["imports", page.site_slug] });
    navigate(`/sites/${page.site_slug}/imports`);
  };
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${page.engagement_slug}`, page.engagement_name],
          [`/sites/${page.site_slug}`, page.site_name],
          [`/sites/${page.site_slug}/imports`, "Imported files"],
        ]}
        title={page.name}
      />
      <div className="mt-2 flex flex-wrap items-start justify-between gap-4">
        <h1 className="text-3xl tracking-tight break-all">{page.name}</h1>
        <div className="flex flex-wrap gap-3">
          <Rename page={page} say={say} />
          {page.can_change && <FileLink href={`/api/imports/${id}/file`}>Download</FileLink>}
          <Popup label="Delete" trigger={<Button>Delete …</Button>} confirm="Delete" onConfirm={drop}>
            <p>
              Delete “{page.name}”? The file and what was read in it are removed for good. No call of the
              site’s own is touched.
            </p>
          </Popup>
        </div>
      </div>
      <p className="mt-1 max-w-4xl text-soft">
        {page.kind}, imported {dateTime(page.created_us, page.time_zone)} · {page.note}
      </p>
      {problem && (
        <div className="mt-4">
          <Note>{problem}</Note>
        </div>
      )}
      {page.state === "reading" && (
        <div className="mt-4">
          <Note>The file is being read.</Note>
        </div>
      )}
      {page.failure && (
        <div className="mt-4">
          <Note>{page.failure}</Note>
        </div>
      )}
      {page.cut_short && (
        <div className="mt-4">
          <Note>The file ends in the middle of a packet. What came before it is shown.</Note>
        </div>
      )}
      <Notes notes={page.notes} />
      {(page.streams.length > 0 || page.echoes.length > 0) && <SpeaksFor page={page} change={change} />}
      {page.kind === "capture" && page.streams.length > 0 && <Streams page={page} change={change} />}
      {page.echoes.map((echo, i) => (
        <EchoPart
          key={`${echo.host} ${i}`}
          echo={echo}
          timeZone={page.time_zone}
          place={(role) => change({ roles: { ...rolesOf(page), ...(role ? { [i]: role } : {}) } })}
        />
      ))}
    </>
  );
}

function rolesOf(page: Page): Record<string, Role> {
  return Object.fromEntries(page.echoes.flatMap((echo, i) => (echo.role ? [[String(i), echo.role]] : [])));
}

function Rename({ page, say }: { page: Page; say: Change }) {
  const [name, setName] = useState(page.name);
  return (
    <Popup
      label="Rename"
      trigger={<Button>Rename …</Button>}
      confirm="Save"
      disabled={!name.trim()}
      onConfirm={() => say({ name: name.trim() })}
    >
      <TextField label="Name of the file" value={name} onChange={setName} />
    </Popup>
  );
}

function Notes({ notes = [] }: { notes?: string[] | undefined }) {
  return (
    <ul className="mt-3 space-y-1">
      {notes.map((note) => (
        <li key={note} className="border-l-2 border-ink pl-3">
          {note}
        </li>
      ))}
    </ul>
  );
}

/** Which test point and which days a file speaks for, and whether it stands beside the day sheet. */
function SpeaksFor({ page, change }: { page: Page; change: Change }) {
  const [starts, setStarts] = useState(page.starts_local ?? "");
  const timeless = page.echoes.some((echo) => !echo.started_us) || page.starts_local !== null;
  return (
    <Section title="Applies to">
      <div className="flex flex-wrap items-end gap-6">
        <div className="w-64">
          <SelectField
            label="Test point"
            value={String(page.test_point_id ?? "")}
            options={[
              ["", "not specified"],
              ...page.test_points.map((one) => [String(one.id), one.name] as const),
            ]}
            onChange={(testPoint) => change({ test_point_id: testPoint ? Number(testPoint) : null })}
          />
        </div>
        {timeless && (
          <div className="flex flex-wrap items-end gap-3">
            <div className="w-56">
              <TextField
                label={`Began, local time (${page.time_zone})`}
                value={starts}
                onChange={setStarts}
                placeholder="2026-11-25 09:30"
              />
            </div>
            <Button
              disabled={starts === (page.starts_local ?? "")}
              onClick={() => change({ starts_local: starts || null })}
            >
              Save
            </Button>
          </div>
        )}
        <CheckField
          label="Show beside the day sheet"
          hint={
            page.days.length > 0
              ? `${page.days[0]}${page.days.length > 1 ? ` to ${page.days.at(-1)}` : ""}; not counted in the verdict`
              : page.kind === "capture"
                ? "available once a codec is set"
                : "available once the log’s start is set"
          }
          value={page.shown}
          onChange={(shown) => change({ shown })}
        />
      </div>
    </Section>
  );
}

function Streams({ page, change }: { page: Page; change: Change }) {
  const codecs = useQuery({
    queryKey: ["codecs"],
    queryFn: () => get("CodecList", "/api/codecs"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const options = (codecs.data?.codecs ?? []).map((c) => [c.name, c.title] as const);
  const named = Object.fromEntries(
    page.streams.flatMap((s, i) => (s.codec && !s.names_codec ? [[String(i), s.codec]] : [])),
  );
  const paired = new Set(page.pairs.flat());
  const part = (i: number) => {
    const stream = page.streams[i];
    if (!stream) return null;
    return (
      <StreamPart
        key={i}
        number={i + 1}
        stream={stream}
        timeZone={page.time_zone}
        codecs={page.can_change && !stream.names_codec ? options : []}
        name={(codec) => change({ codecs: codec ? { ...named, [i]: codec } : without(named, String(i)) })}
        others={paired.has(i) ? [] : page.streams.flatMap((_, j) => (j !== i && !paired.has(j) ? [j] : []))}
        pair={(j) => change({ pairs: [...page.pairs, [Math.min(i, j), Math.max(i, j)]] })}
      />
    );
  };
  return (
    <Section
      title={plural(page.streams.length, "RTP stream")}
      aside={`found in ${count(page.packets)} packets, longest first`}
    >
      {page.pairs.map(([a, b]) => (
        <article key={`${a} ${b}`} className="mb-4 border-l-2 border-ink pl-4" aria-label="A call">
          <div className="flex flex-wrap items-baseline justify-between gap-6 pt-1">
            <h3 className="font-semibold">{callWords(page.streams[a], page.streams[b])}</h3>
            <button
              type="button"
              className="text-sm underline underline-offset-3"
              onClick={() => change({ pairs: page.pairs.filter(([x]) => x !== a) })}
            >
              Separate
            </button>
          </div>
          {part(a)}
          {part(b)}
        </article>
      ))}
      {page.streams.map((_, i) => (paired.has(i) ? null : part(i)))}
    </Section>
  );
}

function without(named: Record<string, string>, key: string): Record<string, string> {
  return Object.fromEntries(Object.entries(named).filter(([k]) => k !== key));
}

/** A call is as good as its worse direction. */
function callWords(one?: Stream, other?: Stream): string {
  const worse = [one?.mos, other?.mos].filter((mos) => mos !== null && mos !== undefined);
  const between = `Call between ${one?.source} and ${one?.destination}`;
  return worse.length === 2
    ? `${between}: ${fixed(Math.min(...worse), 2)} MOS in its worse direction`
    : between;
}

function EchoPart(props: { echo: Echo; timeZone: string; place: (role: Role | "") => void }) {
  const { echo, timeZone, place } = props;
  const times = echo.stamped
    ? echo.started_us
      ? `began ${dateTime(echo.started_us, timeZone)}`
      : "times as stamped, without a date"
    : "no times in it: one echo a second is assumed";
  return (
    <Section
      title={`Ping to ${echo.host ?? "an unnamed host"}`}
      aside={`${echo.system} log, ${times}${echo.runs > 1 ? `, ${echo.runs} runs` : ""}`}
    >
      <div className="flex flex-wrap items-start justify-between gap-6">
        <div>
          <p className="text-xl font-semibold">
            {count(echo.lost)} of {count(echo.sent)} unanswered, {pct(echo.loss_pct, 2)}
            {echo.longest_loss_run > 1 && `, ${echo.longest_loss_run} in a row`}
          </p>
          <p className="mt-1">
            Round trip: minimum {ms(echo.rtt_min_ms, 1)}, median {ms(echo.rtt_p50_ms, 1)}, 95th percentile{" "}
            {ms(echo.rtt_p95_ms, 1)}, maximum {ms(echo.rtt_max_ms, 1)}
            {echo.duplicates > 0 && ` · ${plural(echo.duplicates, "duplicate answer")}`}
          </p>
        </div>
        <div className="w-56">
          <SelectField
            label="Where this host is"
            value={echo.role ?? ""}
            options={[...(echo.role ? [] : [["", "not specified"] as const]), ...ROLES]}
            onChange={(role) => place(role as Role | "")}
          />
        </div>
      </div>
      <Notes notes={echo.notes} />
      {echo.strange && echo.strange.length > 0 && (
        <details className="mt-2">
          <summary className="cursor-pointer text-sm">Lines that were not understood</summary>
          <ul className="mt-1 font-mono text-[13px]">
            {echo.strange.map(([line, text]) => (
              <li key={line}>
                {line}: {text}
              </li>
            ))}
          </ul>
        </details>
      )}
      <EchoPlot echo={echo} />
    </Section>
  );
}
