// Two channels between this page and a far end: packets of calls, and what is said about them. The far end is asked for its
// answer by way of the server.

/** How the browser came to the far end, as it tells it itself (W3C webrtc-stats). */
export interface Reach {
  /** What the browser sends from: an address of its own, one that a translator gave it, or a relay. */
  own: string;
  /** Of the packets between the two, or from the relay on. */
  transport: string;
  /** To the relay: udp, tcp or tls; empty where there is none. */
  relay: string;
  /** The kind of network, where the browser tells it. */
  network: string;
  /** Of the far end. */
  address: string;
  port: number;
  families: FamilyTried[];
}

/** Of the addresses of one family that the far end has: what came of the checks to them. */
interface FamilyTried {
  family: Family;
  state: "answered" | "silent" | "untried";
}

type Family = "IPv4" | "IPv6";
type Told = Record<string, unknown>;
const FAMILIES: Family[] = ["IPv4", "IPv6"];
const STATES: FamilyTried["state"][] = ["untried", "silent", "answered"];

export class FarLink {
  readonly media: RTCDataChannel;
  readonly control: RTCDataChannel;
  private readonly peer: RTCPeerConnection;

  /** ``relay``: how to go through one; null for the straight way. */
  constructor(relay: RTCConfiguration | null) {
    this.peer = new RTCPeerConnection(relay ?? { iceServers: [] });
    this.media = this.peer.createDataChannel("media", { ordered: false, maxRetransmits: 0 });
    this.media.binaryType = "arraybuffer";
    this.control = this.peer.createDataChannel("control");
  }

  async offer(): Promise<string> {
    await this.peer.setLocalDescription(await this.peer.createOffer());
    return this.peer.localDescription?.sdp ?? "";
  }

  /** False where nothing came through in time. Throws what the browser says of an answer that it does not take. */
  async opened(answer: string, withinMs: number): Promise<boolean> {
    const open = [this.media, this.control].map((channel) => new Promise((done) => (channel.onopen = done)));
    await this.peer.setRemoteDescription({ type: "answer", sdp: answer });
    return (await within(withinMs, Promise.all(open))) !== null;
  }

  /** Whether WebRTC was told of any network: without one nothing is tried, which is no fault of the network's. */
  get hasAddress(): boolean {
    return this.peer.localDescription?.sdp.includes("a=candidate:") ?? false;
  }

  onFailed(tell: () => void): void {
    this.peer.onconnectionstatechange = () => {
      if (this.peer.connectionState === "failed") tell();
    };
  }

  /** Null where the browser does not tell. */
  async reach(): Promise<Reach | null> {
    const stats = new Map<string, Told>();
    for (const [id, one] of await this.peer.getStats()) stats.set(id, one);
    const all = [...stats.values()];
    const chosen = all.find((one) => one.type === "transport" && one.selectedCandidatePairId);
    const pair = chosen
      ? stats.get(String(chosen.selectedCandidatePairId))
      : all.find((one) => one.type === "candidate-pair" && one.nominated && one.state === "succeeded");
    const own = stats.get(String(pair?.localCandidateId));
    const far = stats.get(String(pair?.remoteCandidateId));
    if (!own || !far) return null;
    return {
      own: text(own.candidateType, 16),
      transport: text(far.protocol, 8),
      relay: text(own.relayProtocol, 8),
      network: text(own.networkType, 32),
      address: text(far.address, 64),
      port: Number(far.port) || 0,
      families: FAMILIES.flatMap((family) => tried(family, all)),
    };
  }

  close(): void {
    this.peer.close();
  }
}

/** By what the browser tells of its candidates and pairs (W3C webrtc-stats); nothing of a family that the far end has not. */
export function tried(family: Family, all: Told[]): FamilyTried[] {
  const theirs = all.filter((one) => one.type === "remote-candidate" && familyOf(one.address) === family);
  if (theirs.length === 0) return [];
  const pairs = all.filter(
    (one) => one.type === "candidate-pair" && theirs.some((far) => far.id === one.remoteCandidateId),
  );
  // Not every browser counts requests and responses.
  const answered = pairs.some((one) => one.state === "succeeded" || Number(one.responsesReceived) > 0);
  const asked = pairs.some((one) => one.state !== "frozen" && one.state !== "waiting");
  return [{ family, state: answered ? "answered" : asked ? "silent" : "untried" }];
}

function familyOf(address: unknown): Family {
  return String(address).includes(":") ? "IPv6" : "IPv4";
}

/** What is known at the end, with what was known at the beginning: a browser forgets pairs that it does not use. */
export function together(before: Reach | null, after: Reach | null): Reach | null {
  if (!before || !after) return after ?? before;
  const families = FAMILIES.flatMap((family) => {
    const states = [before, after].flatMap((one) => one.families.filter((each) => each.family === family));
    const best = Math.max(...states.map((one) => STATES.indexOf(one.state)));
    const state = STATES[best];
    return state ? [{ family, state }] : [];
  });
  return { ...after, families };
}

/** Null where it takes longer. */
export async function within<T>(forMs: number, what: Promise<T>): Promise<T | null> {
  return Promise.race([what, new Promise<null>((done) => setTimeout(() => done(null), forMs))]);
}

/** No longer than the server takes it: packets must not be lost for a word. */
const text = (value: unknown, most: number) => (typeof value === "string" ? value.slice(0, most) : "");
