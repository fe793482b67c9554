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
}

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
    const stats = new Map<string, Record<string, unknown>>();
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
    };
  }

  close(): void {
    this.peer.close();
  }
}

/** Null where it takes longer. */
export async function within<T>(forMs: number, what: Promise<T>): Promise<T | null> {
  return Promise.race([what, new Promise<null>((done) => setTimeout(() => done(null), forMs))]);
}

/** No longer than the server takes it: packets must not be lost for a word. */
const text = (value: unknown, most: number) => (typeof value === "string" ? value.slice(0, most) : "");
