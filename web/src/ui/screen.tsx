// What every screen has: our mark, the way back, and what stands there until there is something to show.
import { useEffect } from "react";
import { Link } from "react-router";
import { Loading, Note } from "./controls";

/** A sounding line let down into a tarn. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 28" className="h-6 w-7" aria-hidden="true">
      <path d="M2 10C8 29 24 29 30 10Z" fill="var(--depth-2)" />
      <path d="M8 15C11 26 21 26 24 15Z" fill="var(--depth-4)" />
      <path d="M16 2v20" stroke="var(--ink)" strokeWidth="1.6" />
      <circle cx="16" cy="22" r="2.2" fill="var(--ink)" />
    </svg>
  );
}

/** The line above each screen's title: where one is, and the document's title. */
export function Trail({ steps, title }: { steps: [string, string][]; title: string }) {
  useEffect(() => {
    document.title = `${title} · Tarnfell`;
  }, [title]);
  return (
    <nav aria-label="Where you are" className="text-sm text-soft">
      {steps.map(([to, name]) => (
        <span key={to}>
          <Link to={to} className="underline decoration-hair underline-offset-3 hover:decoration-ink">
            {name}
          </Link>
          <span aria-hidden="true"> › </span>
        </span>
      ))}
    </nav>
  );
}

export function Pending({ what, error }: { what: string; error: Error | null }) {
  return error ? <Note>{error.message}</Note> : <Loading what={what} />;
}
