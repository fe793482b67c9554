// The three answers as shapes of our own: a lead on the bottom, a lead that found none, a line still going down.
import type { Model } from "../api/client";

export function StateMark({ state }: { state: Model<"Requirement">["state"] }) {
  return (
    <svg viewBox="0 0 14 16" className="inline-block h-4 w-3.5 align-[-2px]" aria-hidden="true">
      {state === "shown" && <path d="M7 0V8M3 8H11L7 15Z" fill="var(--ink)" stroke="var(--ink)" />}
      {state === "open" && (
        <path d="M7 0V8M3 8H11L7 15Z" fill="none" stroke="var(--ink)" strokeDasharray="2 1.6" />
      )}
      {state === "shown not" && (
        <path d="M7 0V4M2 5L12 15M12 5L2 15" fill="none" stroke="var(--depth-5)" strokeWidth="2" />
      )}
    </svg>
  );
}
