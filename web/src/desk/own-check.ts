// What the page sees of itself while a test is on: what it sent late, let wait or held back, and whether it was looked at.

export interface Spread {
  p50: number;
  p99: number;
  max: number;
}

export function spread(values: number[]): Spread | null {
  if (values.length === 0) return null;
  const ordered = [...values].sort((a, b) => a - b);
  const last = ordered.length - 1;
  const at = (place: number) => Math.round((ordered[place] ?? 0) * 1000) / 1000;
  return { p50: at(Math.floor(last / 2)), p99: at(Math.floor((last * 99) / 100)), max: at(last) };
}

export class OwnCheck {
  private readonly late: number[] = [];
  private readonly lag: number[] = [];
  private readonly held: number[] = [];
  private heldSince: number | null = null;
  private hiddenSince: number | null = null;
  private hiddenMs = 0;
  private readonly look = () => this.looked();

  constructor() {
    document.addEventListener("visibilitychange", this.look);
    this.looked();
  }

  /** A packet left so many milliseconds after it was due. */
  sent(lateMs: number): void {
    this.late.push(lateMs);
  }

  /** The worker's word took so long to be heard: what arrived in that time waited as long. */
  ticked(lagMs: number): void {
    this.lag.push(lagMs);
  }

  /** What the transport has not let go of yet, in bytes. */
  buffered(bytes: number, atMs: number): void {
    if (bytes > 0) {
      this.heldSince ??= atMs;
      return;
    }
    this.held.push(this.heldSince === null ? 0 : atMs - this.heldSince);
    this.heldSince = null;
  }

  private looked(): void {
    const now = performance.now();
    if (document.hidden) {
      this.hiddenSince ??= now;
    } else if (this.hiddenSince !== null) {
      this.hiddenMs += now - this.hiddenSince;
      this.hiddenSince = null;
    }
  }

  end() {
    document.removeEventListener("visibilitychange", this.look);
    if (this.hiddenSince !== null) this.hiddenMs += performance.now() - this.hiddenSince;
    // Two clocks of one machine begin apart by a constant: only what is more than the least is waiting.
    const least = this.lag.reduce((least, one) => Math.min(least, one), Number.POSITIVE_INFINITY);
    return {
      late_ms: spread(this.late),
      scatter_ms: spread(this.lag.map((one) => one - least)),
      held_ms: spread(this.held),
      hidden_s: this.hiddenMs / 1000,
    };
  }
}
