// Fills the line by streams between this browser and the web server, in a thread of its own beside the packets of a call.
// Bytes down count when they came, bytes up when the server has said that it has them.

export interface FillOrder {
  /** Where pieces of streams are read from and written to. */
  path: string;
  idleS: number;
  seconds: number;
  restS: number;
  streams: number;
  ways: ("up" | "down")[];
  /** Of all streams together; 0: no end but their time. */
  mostBytes: number;
  /** How long ago the idle phase began. */
  agoMs: number;
}

/** Times are milliseconds since the idle phase began. */
export interface Phase {
  way: "idle" | "up" | "down";
  fromMs: number;
  untilMs: number;
  up?: number[];
  down?: number[];
  failure?: string;
}

export type FillerSays = { moved: number; way: Phase["way"] } | { phases: Phase[] };

const SLOT_MS = 100;
const LEAST_PIECE = 8 << 10;
const MOST_PIECE = 4 << 20;
/** What a piece up should take: counted at its end, it is spread evenly over its time. */
const PIECE_MS = 250;
const TELL_MS = 500;
/** Pieces up that are on their way when the time is over are waited for so long, to be counted. */
const LAST_PIECES_MS = 1500;

let stopped = false;
let cutOff: AbortController | null = null;
let moved = 0;
/** On their way up, and not counted yet. */
let underWay = 0;

self.onmessage = (event: MessageEvent<FillOrder | "stop">) => {
  if (event.data === "stop") {
    stopped = true;
    cutOff?.abort();
  } else {
    void fill(event.data);
  }
};

const now = () => performance.timeOrigin + performance.now();

async function fill(order: FillOrder): Promise<void> {
  const started = now() - order.agoMs;
  const phases: Phase[] = [];
  let begin = started;
  const enter = async (way: Phase["way"], seconds: number, streams: Streams | null) => {
    if (stopped) return;
    const until = begin + seconds * 1000;
    say({ moved, way });
    const telling = setInterval(() => say({ moved, way }), TELL_MS);
    const slots: number[] = [];
    const failure = streams ? await streams(order, until, slots) : await sleepUntil(until);
    clearInterval(telling);
    const ended = Math.min(now(), until);
    const phase: Phase = { way, fromMs: begin - started, untilMs: ended - started };
    const whole = Math.ceil((ended - begin) / SLOT_MS);
    if (way !== "idle") phase[way] = Array.from(slots.slice(0, whole), (bytes) => bytes ?? 0);
    if (failure) phase.failure = failure;
    phases.push(phase);
    begin = until;
  };
  await enter("idle", order.idleS, null);
  for (const way of order.ways) {
    if (spent(order)) break;
    await enter(way, order.seconds, way === "down" ? download : upload);
    begin += order.restS * 1000;
    await sleepUntil(begin);
  }
  say({ phases });
}

/** What streams may still begin to move. */
const left = (order: FillOrder) =>
  order.mostBytes > 0 ? order.mostBytes - moved - underWay : Number.POSITIVE_INFINITY;

const spent = (order: FillOrder) => left(order) <= 0;

type Streams = (order: FillOrder, untilMs: number, slots: number[]) => Promise<string | null>;

/** Several streams until that instant; the text of what stood in the way, where one broke off. */
async function several(
  order: FillOrder,
  untilMs: number,
  waitMs: number,
  one: (signal: AbortSignal) => Promise<void>,
): Promise<string | null> {
  const off = new AbortController();
  cutOff = off;
  const timer = setTimeout(() => off.abort(), Math.max(0, untilMs + waitMs - now()));
  let failure: string | null = null;
  const stream = async () => {
    while (!off.signal.aborted && now() < untilMs && !spent(order)) {
      try {
        await one(off.signal);
      } catch (error) {
        if (off.signal.aborted) break;
        failure = `A stream through the web server broke off: ${error instanceof Error ? error.message : error}`;
        // Others go on; this one is opened again, not at once.
        await new Promise((done) => setTimeout(done, 500));
      }
    }
  };
  await Promise.all(Array.from({ length: order.streams }, stream));
  clearTimeout(timer);
  return failure;
}

const download: Streams = (order, untilMs, slots) => {
  const count = counter(slots);
  return several(order, untilMs, 0, async (signal) => {
    const answer = await fetch(`${order.path}/down`, { signal, cache: "no-store" });
    if (!answer.ok || !answer.body) throw new Error(`the server answered ${answer.status}`);
    const reader = answer.body.getReader();
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      count(value.byteLength, now(), now());
      if (spent(order)) return void reader.cancel();
    }
  });
};

const upload: Streams = (order, untilMs, slots) => {
  const count = counter(slots);
  const noise = new Uint8Array(MOST_PIECE);
  for (let at = 0; at < noise.length; at += 65536) crypto.getRandomValues(noise.subarray(at, at + 65536));
  let piece = LEAST_PIECE;
  return several(order, untilMs, LAST_PIECES_MS, async (signal) => {
    const size = Math.min(piece, left(order));
    const begun = now();
    underWay += size;
    try {
      const answer = await fetch(`${order.path}/up`, {
        method: "PUT",
        body: noise.subarray(0, size),
        signal,
      });
      if (!answer.ok) throw new Error(`the server answered ${answer.status}`);
      await answer.arrayBuffer();
    } finally {
      underWay -= size;
    }
    const ended = now();
    count(size, begun, ended);
    const right = (size * PIECE_MS) / Math.max(1, ended - begun);
    piece = Math.round(Math.min(MOST_PIECE, 2 * size, Math.max(LEAST_PIECE, right)));
  });
};

/** Adds bytes to the slots of the time they took; the first slot begins where the first bytes do. */
function counter(slots: number[]): (bytes: number, fromMs: number, untilMs: number) => void {
  let first: number | null = null;
  return (bytes, fromMs, untilMs) => {
    first ??= fromMs;
    moved += bytes;
    const from = Math.max(0, Math.floor((fromMs - first) / SLOT_MS));
    const until = Math.max(from, Math.floor((untilMs - first) / SLOT_MS));
    const each = Math.floor(bytes / (until - from + 1));
    for (let slot = from; slot <= until; slot++) slots[slot] = (slots[slot] ?? 0) + each;
    slots[until] = (slots[until] ?? 0) + bytes - each * (until - from + 1);
  };
}

async function sleepUntil(atMs: number): Promise<null> {
  while (!stopped && now() < atMs) await new Promise((done) => setTimeout(done, Math.min(200, atMs - now())));
  return null;
}

function say(what: FillerSays): void {
  postMessage(what);
}
