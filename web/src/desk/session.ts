// One test: an offer to the far end by way of the server, packets both ways, and this end's half of them delivered. Beside
// them the line may be filled.
import { type Model, post } from "../api/client";
import { deliver, keepAtOnce } from "./deliver";
import { type Reach, together, within } from "./far-link";
import type { FillerSays, Phase } from "./filler";
import { OwnCheck } from "./own-check";
import { packet, parse, question } from "./packets";
import type { Channel, Way } from "./way";
import { tryWeb } from "./web-requests";

/** What is asked of a test. */
export interface Order {
  calls: number;
  intervalMs: number;
  filling: number;
  seconds: number;
  /** The line is filled beside the packets. */
  fill: Model<"TestFill"> | null;
}

/** What was found out about other ways than the straight one; it stands with each test. */
export interface Around {
  relays: Model<"RelayFound">[];
  web: Model<"WebFound"> | null;
}

const CONNECT_MS = 15_000;
const QUESTION_EVERY_MS = 100;
const SETTLE_MS = 1500;
const KEPT_MS = 4000;
const SILENT_MS = 8000;

export interface Live {
  stage: "connecting" | "running" | "delivering";
  second: number;
  /** Packets, over all calls: those that the far end has told of, and those of them that had come. */
  reachedUp: number;
  arrivedUp: number;
  sentDown: number;
  arrivedDown: number;
  roundTripMs: number | null;
  /** What streams fill at the moment, and what they have moved in all; null where the line is not to be filled. */
  filled: { way: Phase["way"]; bytes: number } | null;
}

interface Call {
  sent_us: number[];
  arrival_seq: number[];
  arrival_us: number[];
  far: [number, number];
}

interface Cut {
  code: "gone" | "silent";
  reason: string;
  after_s: number;
  server_reachable: boolean | null;
}

/** Unix time in milliseconds by a clock that nobody sets. */
const now = () => performance.timeOrigin + performance.now();

export class Session {
  private readonly media: Channel;
  private readonly control: Channel;
  private readonly calls: Call[];
  private readonly exchange = { t1_us: [], t2_us: [], t3_us: [], t4_us: [] } as Record<string, number[]>;
  private readonly check = new OwnCheck();
  private readonly planned: number;
  private startedUs = 0;
  private heardMs = now();
  private questions = 0;
  private sentDown = 0;
  private roundTripMs: number | null = null;
  private stopped = false;
  private gone: "gone" | "silent" | null = null;

  constructor(
    private readonly order: Order,
    private readonly code: string,
    private readonly tell: (live: Live) => void,
    private readonly way: Way,
    private readonly around: Around,
  ) {
    this.media = way.media;
    this.control = way.control;
    this.planned = Math.round((order.seconds * 1000) / order.intervalMs);
    this.calls = Array.from({ length: order.calls }, () => ({
      sent_us: [],
      arrival_seq: [],
      arrival_us: [],
      far: [0, 0],
    }));
  }

  /** What was measured so far is delivered. */
  stop(): void {
    this.stopped = true;
    this.filler?.postMessage("stop");
  }

  /**
   * Until the packets are delivered; false where no media came through, which the server has been told. Throws an Error
   * whose text says what else stood in the way.
   */
  async run(farEndId: number): Promise<boolean> {
    this.say("connecting", 0);
    const begun = await this.way.begin(this.code, farEndId, this.order.fill !== null);
    const path = `/api/test/${this.code}/jobs/${begun.jobId}`;
    const leaving = () => this.keepAtOnce(`${path}/half`);
    try {
      try {
        if (!(await this.way.opened(CONNECT_MS))) {
          const { whyNot: why } = this.way;
          if (why === "no-connection") this.around.web ??= await tryWeb();
          await post("Done", `${path}/failed`, { why, relays: this.around.relays, web: this.around.web });
          return false;
        }
        this.reach = await this.way.reach().catch(() => null);
      } catch (error) {
        // Nobody need wait for a test that this browser could not begin.
        await post("Done", `${path}/failed`, { why: "given-up" });
        throw error;
      }
      addEventListener("pagehide", leaving);
      await this.measure(path, begun.mostBytes);
    } finally {
      removeEventListener("pagehide", leaving);
      this.way.close();
    }
    await this.deliver(`${path}/half`);
    return true;
  }

  get wasStopped(): boolean {
    return this.stopped;
  }

  private async measure(path: string, mostBytes: number): Promise<void> {
    const kept = new Promise<true>((done) => {
      this.control.onmessage = (event) => this.told(String(event.data), done);
    });
    this.media.onmessage = (event) => this.arrived(event.data);
    this.way.onFailed(() => {
      this.gone = "gone";
    });
    this.startedUs = Math.round(now() * 1000);
    this.heardMs = now();
    this.control.send(JSON.stringify({ begin: true }));
    const worker = new Worker(new URL("./pacer.ts", import.meta.url), { type: "module" });
    const filling = this.order.fill ? this.fill(this.order.fill, path, mostBytes) : null;
    try {
      await new Promise<void>((done) => {
        let second = 0;
        let asked = 0;
        worker.onmessage = (event) => {
          const at = now();
          this.check.ticked(at - Number(event.data));
          const sinceMs = at - this.startedUs / 1000;
          if (!this.stopped && !this.gone) this.send(at);
          if (at - asked >= QUESTION_EVERY_MS && !this.gone && this.media.readyState === "open") {
            asked = at;
            this.media.send(question(this.questions++, at * 1000));
          }
          if (at - this.heardMs > SILENT_MS) this.gone ??= "silent";
          if (sinceMs >= (second + 1) * 1000) {
            second += 1;
            this.say("running", second);
            void this.tellServer(path);
          }
          const over = this.stopped ? this.stoppedAt(at) : sinceMs >= this.order.seconds * 1000 + SETTLE_MS;
          if (over || this.gone) done();
        };
      });
    } finally {
      worker.terminate();
      this.lastedS = (now() * 1000 - this.startedUs) / 1e6;
      this.own = this.check.end();
      this.phases = filling ? await filling.end() : null;
    }
    this.reach = together(this.reach, await this.way.reach().catch(() => null));
    if (this.gone) {
      this.cut = await this.cutBy(this.gone);
    } else if (this.control.readyState === "open") {
      this.control.send(JSON.stringify({ finish: true }));
      await within(KEPT_MS, kept);
    }
  }

  /** Streams beside the packets, in a thread of their own. */
  private fill(plan: Model<"TestFill">, path: string, mostBytes: number): { end: () => Promise<Phase[]> } {
    const filler = new Worker(new URL("./filler.ts", import.meta.url), { type: "module" });
    this.filler = filler;
    const whole = new Promise<Phase[]>((done) => {
      filler.onmessage = (event: MessageEvent<FillerSays>) => {
        if ("phases" in event.data) done(event.data.phases);
        else this.filled = { way: event.data.way, bytes: event.data.moved };
      };
    });
    filler.postMessage({
      path,
      idleS: plan.idle_s,
      seconds: plan.seconds,
      restS: plan.rest_s,
      streams: plan.streams,
      ways: plan.ways,
      mostBytes,
      agoMs: now() - this.startedUs / 1000,
    });
    return {
      end: async () => {
        filler.postMessage("stop");
        const phases = await within(KEPT_MS, whole);
        filler.terminate();
        return phases ?? [];
      },
    };
  }

  private filler: Worker | null = null;
  private filled: Live["filled"] = null;
  private phases: Phase[] | null = null;
  private lastedS = 0;
  private own: ReturnType<OwnCheck["end"]> | null = null;
  private reach: Reach | null = null;
  private cut: Cut | null = null;
  private stopAt: number | null = null;

  /** Once stopped, the far end is told and what is on its way is waited for. */
  private stoppedAt(at: number): boolean {
    if (this.stopAt === null) {
      this.stopAt = at;
      if (this.control.readyState === "open") this.control.send(JSON.stringify({ stop: true }));
    }
    return at - this.stopAt >= SETTLE_MS;
  }

  private send(at: number): void {
    const startedMs = this.startedUs / 1000;
    if (this.media.readyState !== "open") return;
    for (const [number, call] of this.calls.entries()) {
      const offset = (this.order.intervalMs * number) / this.calls.length;
      while (call.sent_us.length < this.planned) {
        const due = startedMs + offset + call.sent_us.length * this.order.intervalMs;
        if (due > at) break;
        const sent = now();
        this.media.send(packet(number, call.sent_us.length, sent * 1000, this.order.filling));
        call.sent_us.push(Math.round(sent * 1000) - this.startedUs);
        this.check.sent(sent - due);
      }
    }
    // What waits for a WebSocket waits for TCP, which waits for the network.
    if (this.way.holdsBackItself) this.check.buffered(this.media.bufferedAmount, at);
  }

  private arrived(bytes: ArrayBuffer): void {
    const at = now();
    const since = Math.round(at * 1000) - this.startedUs;
    const message = parse(bytes);
    this.heardMs = at;
    if (message?.kind === "packet") {
      const call = this.calls[message.call];
      if (!call || message.number >= this.planned || call.arrival_seq.length >= 4 * this.planned) return;
      call.arrival_seq.push(message.number);
      call.arrival_us.push(since);
    } else if (message?.kind === "answer") {
      this.exchange.t1_us?.push(Math.round(message.t1Us) - this.startedUs);
      this.exchange.t2_us?.push(Math.round(message.t2Us) - this.startedUs);
      this.exchange.t3_us?.push(Math.round(message.t3Us) - this.startedUs);
      this.exchange.t4_us?.push(since);
      this.roundTripMs = (at * 1000 - message.t1Us - (message.t3Us - message.t2Us)) / 1000;
    }
  }

  private told(text: string, kept: (value: true) => void): void {
    this.heardMs = now();
    const told = JSON.parse(text);
    if (told.kept) kept(true);
    if (!told.progress) return;
    this.sentDown = sum(told.progress.sent);
    for (const [number, call] of this.calls.entries()) {
      call.far = [told.progress.reached[number], told.progress.received[number]];
    }
  }

  private say(stage: Live["stage"], second: number): void {
    this.tell({
      stage,
      second,
      reachedUp: sum(this.calls.map((call) => call.far[0])),
      arrivedUp: sum(this.calls.map((call) => call.far[1])),
      sentDown: this.sentDown,
      arrivedDown: sum(this.calls.map((call) => new Set(call.arrival_seq).size)),
      roundTripMs: this.roundTripMs,
      filled: this.order.fill ? (this.filled ?? { way: "idle", bytes: 0 }) : null,
    });
  }

  /** The consultant may stop it; a server that does not answer is no reason to. */
  private async tellServer(path: string): Promise<void> {
    try {
      const answer = await post("TestGoesOn", `${path}/alive`, {});
      if (answer.stop) this.stop();
    } catch {
      // It is told again in a second.
    }
  }

  private async cutBy(code: "gone" | "silent"): Promise<Cut> {
    const reached = await within(
      3000,
      fetch("/api/health").then(
        () => true,
        () => false,
      ),
    );
    const reason =
      code === "gone" ? "The far end went away." : `The far end has said nothing for ${SILENT_MS / 1000} s.`;
    return { code, reason, after_s: this.lastedS, server_reachable: reached ?? false };
  }

  private async deliver(path: string): Promise<void> {
    this.say("delivering", this.order.seconds);
    await deliver(path, this.body());
  }

  /** Whoever closes the page in the middle stops the test: what it has by then is delivered when the link is opened again. */
  private keepAtOnce(path: string): void {
    if (this.own || this.order.fill) return; // over already; what a filled line carried is known at its end alone
    this.stopped = true;
    this.lastedS = (now() * 1000 - this.startedUs) / 1e6 - SETTLE_MS / 1000;
    if (this.lastedS <= 0) return;
    this.own = this.check.end();
    // What was on its way, or lay in this browser, would be told as lost.
    for (const call of this.calls) {
      call.sent_us = call.sent_us.filter((at) => at < this.lastedS * 1e6);
      const reached = Math.min(call.far[0], call.sent_us.length);
      call.far = [reached, Math.min(call.far[1], reached)];
    }
    keepAtOnce(path, this.body());
  }

  private body(): string {
    return JSON.stringify({
      started_us: this.startedUs,
      lasted_s: this.lastedS,
      agent: navigator.userAgent.slice(0, 200),
      stopped: this.stopped,
      check: this.own,
      reach: this.reach,
      relays: this.around.relays,
      web: this.around.web,
      cut: this.cut,
      calls: this.calls,
      exchange: this.exchange,
      ...(this.phases && { phases: this.phases.map((one) => phaseTold(one, this.startedUs)) }),
    });
  }
}

/** As the server takes it: Unix microseconds by this page's clock. */
function phaseTold(phase: Phase, startedUs: number): object {
  const { fromMs, untilMs, ...rest } = phase;
  const at = (ms: number) => startedUs + Math.round(ms * 1000);
  return { ...rest, from_us: at(fromMs), until_us: at(untilMs) };
}

function sum(values: number[]): number {
  return values.reduce((total, one) => total + one, 0);
}
