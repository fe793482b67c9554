// The ways that a test's packets can take: by WebRTC to the far end, straight or through a relay, and, where nothing else
// passes, over a WebSocket to the web server.
import { type Model, post } from "../api/client";
import { FarLink, type Reach, within } from "./far-link";

/** As much of a data channel (RFC 8831) as a WebSocket can stand in for. */
export interface Channel {
  readonly readyState: string;
  readonly bufferedAmount: number;
  onmessage: ((event: MessageEvent) => void) | null;
  send(message: string): void;
  send(message: ArrayBuffer): void;
}

export interface Way {
  readonly media: Channel;
  readonly control: Channel;
  /** Whether what waits to be sent waits for this browser and not for the network. */
  readonly holdsBackItself: boolean;
  /** Why it did not open. */
  readonly whyNot: Model<"TestFailed">["why"];
  /** Ask the server for the test. */
  begin(code: string, farEndId: number, fill: boolean): Promise<{ jobId: number; mostBytes: number }>;
  opened(withinMs: number): Promise<boolean>;
  onFailed(tell: () => void): void;
  /** Null where the browser does not tell. */
  reach(): Promise<Reach | null>;
  close(): void;
}

export class ByWebRtc implements Way {
  readonly holdsBackItself = true;
  private readonly far: FarLink;
  private answer = "";

  /** ``relay``: how to go through one; null for the straight way. */
  constructor(private readonly relay: RTCConfiguration | null) {
    this.far = new FarLink(relay);
  }

  get media(): Channel {
    return this.far.media;
  }

  get control(): Channel {
    return this.far.control;
  }

  get whyNot(): Model<"TestFailed">["why"] {
    return this.far.hasAddress || this.relay ? "no-connection" : "no-address";
  }

  async begin(code: string, farEndId: number, fill: boolean) {
    const offer = await this.far.offer();
    const begun = await post("TestBegun", `/api/test/${code}/${fill ? "fills" : "runs"}`, {
      far_end_id: farEndId,
      offer,
      relayed: this.relay !== null,
    });
    this.answer = begun.answer;
    return { jobId: begun.job_id, mostBytes: begun.most_bytes };
  }

  opened(withinMs: number): Promise<boolean> {
    return this.far.opened(this.answer, withinMs);
  }

  onFailed(tell: () => void): void {
    this.far.onFailed(tell);
  }

  reach(): Promise<Reach | null> {
    return this.far.reach();
  }

  close(): void {
    this.far.close();
  }
}

export class BySocket implements Way {
  readonly media: Channel;
  readonly control: Channel;
  readonly holdsBackItself = false;
  readonly whyNot = "no-socket";
  private socket: WebSocket | null = null;
  private token = "";

  constructor(private readonly where: Model<"TestSocket">) {
    const way = this;
    const channel = (): Channel => ({
      get readyState() {
        return way.socket?.readyState === WebSocket.OPEN ? "open" : "closed";
      },
      get bufferedAmount() {
        return way.socket?.bufferedAmount ?? 0;
      },
      onmessage: null,
      send: (message: string | ArrayBuffer) => way.socket?.send(message),
    });
    this.media = channel();
    this.control = channel();
  }

  async begin(code: string, farEndId: number, fill: boolean) {
    const path = `/api/test/${code}/${fill ? "socket-fills" : "socket-runs"}`;
    const begun = await post("SocketBegun", path, { far_end_id: farEndId });
    this.token = begun.token;
    return { jobId: begun.job_id, mostBytes: begun.most_bytes };
  }

  async opened(withinMs: number): Promise<boolean> {
    const socket = new WebSocket(`${this.origin}/socket/${this.token}`);
    this.socket = socket;
    socket.binaryType = "arraybuffer";
    socket.onmessage = (event) => {
      const channel = typeof event.data === "string" ? this.control : this.media;
      channel.onmessage?.(event);
    };
    const open = new Promise<boolean>((done) => {
      socket.onopen = () => done(true);
      socket.onclose = () => done(false);
    });
    return (await within(withinMs, open)) ?? false;
  }

  onFailed(tell: () => void): void {
    if (this.socket) this.socket.onclose = tell;
  }

  async reach(): Promise<Reach> {
    return { own: "socket", transport: "tcp", relay: "", network: "", address: "", port: 0, families: [] };
  }

  close(): void {
    this.socket?.close();
  }

  private get origin(): string {
    const by = location.protocol === "https:" ? "wss" : "ws";
    // Who stands behind a proxy that speaks TLS is reached by no other port.
    const own = this.where.port === null || by === "wss";
    return `${by}://${own ? location.host : `${location.hostname}:${this.where.port}`}`;
  }
}
