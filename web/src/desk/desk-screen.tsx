// The page behind a link for people at a site: what a test from their browser will do, the test, and what it found.
import { type CSSProperties, useCallback, useEffect, useRef, useState } from "react";
import { get, type Model } from "../api/client";
import { Button } from "../ui/button";
import { count, dateTime, fixed, ms, withUnit, writeAsIn } from "../ui/format";
import { Mark } from "../ui/mark";
import { deliverLeft } from "./deliver";
import { Part } from "./part";
import { Results } from "./results";
import type { Around, Live, Order, Session } from "./session";
import { measure, nearest, type Trips, type Where, WhereTo } from "./where-to";

type Page = Model<"TestPage">;
type FarEnd = Model<"TestFarEnd">;

interface Step {
  order: Order;
  farEnd: FarEnd;
  /** From 1. */
  number: number;
  of: number;
}

const SAYS: Record<Page["state"], string> = {
  open: "",
  expired: "This link has expired. Ask whoever sent it for a new one.",
  revoked: "This link was revoked. If you expected it to work, ask whoever sent it.",
};
const AGAIN_MS = 2000;
/** The server waits for the far end's packets no longer than a minute. */
const TOGETHER_MS = 90_000;

export function DeskScreen({ code }: { code: string }) {
  const [page, setPage] = useState<Page | null>(null);
  const [trouble, setTrouble] = useState<string | null>(null);
  const [live, setLive] = useState<Live | null>(null);
  const [step, setStep] = useState<Step | null>(null);
  const [asking, setAsking] = useState<string | null>(null);
  const around = useRef<Around>({ relays: [], web: null });
  const [brought, setBrought] = useState<number[]>([]);
  const [trips, setTrips] = useState<Trips>(new Map());
  const session = useRef<Session | null>(null);
  const read = useCallback(async () => {
    try {
      const told = await get("TestPage", `/api/test/${code}`);
      writeAsIn(told.locale);
      setPage(told);
      return true;
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : String(error));
      return false;
    }
  }, [code]);
  useEffect(() => {
    void read();
    void deliverLeft(code).then((found) => {
      setBrought(found);
      if (found.length > 0) void read();
    });
  }, [code, read]);
  // Judging takes some seconds after the packets are delivered.
  const judged = page ? page.runs.every(isOver) && page.fills.every(isJudged) : true;
  useEffect(() => {
    if (judged || live) return;
    const timer = setInterval(() => void read(), AGAIN_MS);
    return () => clearInterval(timer);
  }, [judged, live, read]);
  // Whoever leaves in the middle stops the test.
  useEffect(() => {
    if (!live) return;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    addEventListener("beforeunload", ask);
    return () => removeEventListener("beforeunload", ask);
  }, [live]);

  async function start(where: Where) {
    setTrouble(null);
    try {
      // What the page was told when it was opened may be hours old.
      const page = await get("TestPage", `/api/test/${code}`);
      setPage(page);
      if (page.state !== "open") return;
      const farEnds = await farEndsFor(page, where);
      const steps = stepsOf(page, farEnds);
      const { carryOut, tryRelay } = await import("./carry-out");
      if (page.relay) {
        setAsking("the relay whether it can be used");
        around.current = { relays: await tryRelay(page.relay), web: null };
        setAsking(null);
      }
      const ways = new Map<number, Model<"SelfRun">["way"] | null>();
      for (const [at, step] of steps.entries()) {
        const known = ways.get(step.farEnd.id);
        if (known === null) continue; // its calls came through by no way, and a filled line’s would not
        setStep({ ...step, number: at + 1, of: steps.length });
        const by = await carryOut({
          order: step.order,
          farEndId: step.farEnd.id,
          known: known ?? null,
          code,
          page,
          around: around.current,
          tell: setLive,
          hold: (begun) => {
            session.current = begun;
          },
        }).catch((error) => {
          if (where !== "all") throw error;
          return null; // it stands among the results, and others may be reached
        });
        ways.set(step.farEnd.id, by);
        if (session.current?.wasStopped || (by === null && where !== "all")) break;
        if (at + 1 < steps.length) await putTogether(code);
      }
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : String(error));
    }
    setLive(null);
    setAsking(null);
    await read();
  }

  async function farEndsFor(page: Page, where: Where): Promise<FarEnd[]> {
    const all = page.far_ends;
    if (where === "all" || all.length < 2) return all;
    if (where !== "nearest") return all.filter((one) => one.id === where);
    const found = await measure(code, all, trips, (one, soFar) => {
      setAsking(`${one.name} how far it is`);
      setTrips(soFar);
    });
    setAsking(null);
    setTrips(found);
    const first = nearest(all, found);
    return first ? [first] : [];
  }

  return (
    <main className="mx-auto max-w-[640px] px-5 pt-5 pb-20">
      <Letterhead page={page} />
      <h1 className="mt-6 text-3xl leading-tight tracking-tight">Test calls from this desk</h1>
      {page && (
        <p className="mt-2 leading-snug text-soft">
          {page.site}, {page.test_point} · {page.name} · asked by {page.from_whom} for {page.engagement}
        </p>
      )}
      {brought.map((atMs) => (
        <p
          key={atMs}
          role="status"
          className="mt-5 border-l-4 border-ink bg-raised py-2 pr-3 pl-3 leading-snug"
        >
          The test of {dateTime(atMs * 1000, Intl.DateTimeFormat().resolvedOptions().timeZone)} had not
          reached your consultant. It is delivered now.
        </p>
      ))}
      {trouble && (
        <p role="alert" className="mt-5 border-l-4 border-ink bg-raised py-2 pr-3 pl-3 leading-snug">
          {trouble}
        </p>
      )}
      {page && page.state !== "open" && (
        <p role="status" className="mt-5 border-l-4 border-ink bg-raised py-3 pr-3 pl-4 leading-snug">
          {SAYS[page.state]}
        </p>
      )}
      {page?.state === "open" && asking && (
        <p role="status" className="mt-6 text-lg font-semibold">
          Asking {asking} …
        </p>
      )}
      {page?.state === "open" &&
        !asking &&
        (live && step ? (
          <Running step={step} live={live} stop={() => session.current?.stop()} />
        ) : (
          <Before page={page} trips={trips} start={start} />
        ))}
      {page && !live && page.runs.length + page.fills.length > 0 && <Results page={page} />}
      {page && (
        <footer className="mt-10 border-t border-hair pt-3 text-sm text-soft">
          {page.contact && <p>{page.contact}</p>}
          <p>Made with Tarnfell.</p>
        </footer>
      )}
    </main>
  );
}

const isOver = (one: { state: string }) => one.state === "done" || one.state === "failed";

const isJudged = (fill: Page["fills"][number]) =>
  isOver(fill) && (fill.says.length > 0 || fill.failure !== null);

/** One thing at a time is measured at a site: the next begins when both ends' packets of this one are together. */
async function putTogether(code: string): Promise<void> {
  const until = Date.now() + TOGETHER_MS;
  while (Date.now() < until) {
    const page = await get("TestPage", `/api/test/${code}`);
    if ([...page.runs, ...page.fills].every(isOver)) return;
    await new Promise((done) => setTimeout(done, AGAIN_MS));
  }
}

/** To each far end the calls, and then the line filled beside one call. */
function stepsOf(page: Page, farEnds: FarEnd[]): Pick<Step, "order" | "farEnd">[] {
  const alike = { intervalMs: page.interval_ms, filling: page.filling };
  const orders: Order[] = [{ ...alike, calls: page.calls, seconds: page.seconds, fill: null }];
  if (page.fill) orders.push({ ...alike, calls: 1, seconds: page.fill.length_s, fill: page.fill });
  return farEnds.flatMap((farEnd) => orders.map((order) => ({ order, farEnd })));
}

function Letterhead({ page }: { page: Page | null }) {
  return (
    <p className="flex min-h-8 flex-wrap items-center gap-3 font-semibold">
      {page?.logo ? <img src={page.logo} alt="" className="max-h-10 max-w-40" /> : <Mark />}
      {/* The brand's colour was chosen to be read on paper, not at night. */}
      <span
        style={page?.colour ? ({ "--brand": page.colour } as CSSProperties) : undefined}
        className={page?.colour ? "text-(--brand) dark:text-ink" : ""}
      >
        {page ? page.brand || "Tarnfell" : ""}
      </span>
    </p>
  );
}

function Before({ page, trips, start }: { page: Page; trips: Trips; start: (where: Where) => void }) {
  const [where, choose] = useState<Where>("nearest");
  const webrtc = "RTCPeerConnection" in window;
  return (
    <>
      <Part title="What will happen">
        <ul className="list-disc space-y-1 pl-5 leading-snug">
          <li>
            This page sends and receives the packets of{" "}
            {page.calls === 1 ? "one call" : `${page.calls} calls at once`} for {withUnit(page.seconds, "s")}.
            There is no sound in them, and no microphone or camera is asked for.
          </li>
          <li>
            That is {withUnit(count(Math.round(page.each_way_kbps)), "kbit/s")} each way, and{" "}
            {withUnit(
              page.volume_mb < 10 ? fixed(page.volume_mb, 1) : count(Math.round(page.volume_mb)),
              "MB",
            )}{" "}
            in all.
          </li>
          {page.fill && (
            <li>
              Then it fills the line for {withUnit(page.fill.seconds, "s")} each way, with one call beside it.
              Others who use the line will notice. It moves as much as the line carries in that time, to this
              web server and back
              {page.fill.volume_mb !== null &&
                `: about ${count(Math.ceil(page.fill.volume_mb))}\u00a0MB on a line as this site’s is said to be`}
              . In all that takes {withUnit(Math.round(page.seconds + page.fill.length_s), "s")}.
            </li>
          )}
          {page.relay && (
            <li>
              It asks a relay whether calls could go through it, and where nothing else comes through, it
              places its calls once more that way.
            </li>
          )}
          {page.socket && (
            <li>
              {page.relay ? "Where none comes through the relay either" : "Where nothing comes through"}, it
              places its calls over the web connection by which this page came.
            </li>
          )}
          <li>What it finds goes to your consultant by itself, and you see it here.</li>
          <li>Keep this page in front and the computer awake until it is done.</li>
        </ul>
      </Part>
      {page.far_ends.length === 0 && (
        <p role="status" className="mt-6 border-l-4 border-ink bg-raised py-2 pl-3 leading-snug">
          There is no place to test to yet. Ask whoever sent the link.
        </p>
      )}
      {page.far_ends.length > 1 && (
        <WhereTo farEnds={page.far_ends} trips={trips} where={where} choose={choose} />
      )}
      {!webrtc && (
        <p role="alert" className="mt-6 border-l-4 border-ink bg-raised py-2 pl-3 leading-snug">
          This browser has no WebRTC, or it is switched off: no test can be made from it. Try another browser.
        </p>
      )}
      {page.far_ends.length > 0 && webrtc && (
        <p className="mt-6">
          <Button act={page.runs.length === 0} onClick={() => start(where)}>
            {page.runs.length === 0 ? "Start the test" : "Test again"}
          </Button>
        </p>
      )}
      <p className="mt-3 text-sm leading-snug text-soft">
        One test tells of its minute only. Best are three: in the morning, at noon and in the evening, on a
        usual working day.{" "}
        <a
          className="underline underline-offset-3"
          href={`${location.pathname.replace("/test/", "/api/test/")}/rounds.ics`}
          download
        >
          Put them in your calendar
        </a>
        . The link works until {dateTime(page.until_us, page.time_zone)}.
      </p>
    </>
  );
}

const STAGES: Record<Live["stage"], string> = {
  connecting: "Connecting",
  running: "Packets are travelling",
  delivering: "Delivering what was measured",
};

const FILLING = {
  idle: "The line is left idle",
  up: "Upload is being filled",
  down: "Download is being filled",
};

function Running({ step, live, stop }: { step: Step; live: Live; stop: () => void }) {
  const { order } = step;
  const what = live.stage === "running" && live.filled ? FILLING[live.filled.way] : STAGES[live.stage];
  return (
    <section aria-label="The test" className="mt-6">
      {step.of > 1 && (
        <p className="text-sm text-soft">
          Step {step.number} of {step.of}: {order.fill ? "a call while the line is full" : "calls"}, to{" "}
          {step.farEnd.name}
        </p>
      )}
      <p role="status" className="text-lg font-semibold">
        {what} …
      </p>
      <div
        role="progressbar"
        aria-label="How far it is"
        aria-valuemin={0}
        aria-valuemax={order.seconds}
        aria-valuenow={Math.min(live.second, order.seconds)}
        className="mt-2 h-2 border border-ink bg-raised"
      >
        <div
          className="h-full"
          style={{
            background: "var(--depth-4)",
            width: `${Math.min(100, (100 * live.second) / order.seconds)}%`,
          }}
        />
      </div>
      <dl className="mt-4 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        <dt className="text-soft">From here</dt>
        <dd>
          {count(live.arrivedUp)} of {count(live.reachedUp)} packets arrived at the far end
        </dd>
        <dt className="text-soft">To here</dt>
        <dd>
          {count(live.arrivedDown)} of {count(Math.max(live.sentDown, live.arrivedDown))} packets arrived
        </dd>
        <dt className="text-soft">There and back</dt>
        <dd>{ms(live.roundTripMs)}</dd>
        {live.filled && (
          <>
            <dt className="text-soft">Streams have moved</dt>
            <dd>{withUnit(fixed(live.filled.bytes / 1e6, 1), "MB")}</dd>
          </>
        )}
      </dl>
      {live.stage === "running" && (
        <p className="mt-4">
          <Button onClick={stop}>Stop, and deliver what there is</Button>
        </p>
      )}
    </section>
  );
}
