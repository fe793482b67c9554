// What every screen has: the way back, and what stands there until there is something to show.
import { useEffect } from "react";
import { Link } from "react-router";
import { Loading, Note } from "./controls";

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
