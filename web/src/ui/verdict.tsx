// The verdict in words and a shape of our own: a basin in section. Full of water, half, crossed out, or a line not yet sounded.
import type { Model } from "../api/client";

type Word = Model<"VerdictView">["word"];

export function VerdictMark({ word, provisional }: { word: Word; provisional: boolean }) {
  return (
    <svg viewBox="0 0 56 36" className="h-7 w-11 shrink-0" aria-hidden="true">
      {word === "ready" && <path d="M6 16C14 34 42 34 50 16Z" fill="var(--depth-3)" />}
      {word === "ready with conditions" && <path d="M10 23C18 33 38 33 46 23Z" fill="var(--depth-2)" />}
      {word === "not ready" && <path d="M20 8L36 24M36 8L20 24" stroke="var(--depth-5)" strokeWidth="2.4" />}
      {word === "not shown yet" && (
        <path d="M17 17H39" stroke="var(--ink)" strokeWidth="1.8" strokeDasharray="1 4" />
      )}
      <path
        d="M3 12C12 38 44 38 53 12"
        fill="none"
        stroke="var(--ink)"
        strokeWidth="1.8"
        strokeDasharray={provisional ? "3 2.4" : undefined}
      />
    </svg>
  );
}

export function VerdictWord({ verdict }: { verdict: Model<"VerdictView"> }) {
  return (
    <span className="leading-tight">
      <span className="font-semibold">{verdict.word}</span>
      {verdict.provisional && <span className="block text-sm text-soft">provisional</span>}
      {verdict.behind && (
        <span role="status" className="block text-sm">
          being judged again
        </span>
      )}
    </span>
  );
}

/** "61 to 85", or one number once nothing is open. */
export function scoreWords(verdict: { low: number; high: number }): string {
  return verdict.low === verdict.high ? String(verdict.low) : `${verdict.low} to ${verdict.high}`;
}
