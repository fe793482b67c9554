import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { get } from "../api/client";
import { Button, INPUT } from "../ui/controls";
import { plural } from "../ui/format";
import { useKey } from "../ui/keys";
import { Pending, Trail } from "../ui/screen";
import { EngagementDialog } from "./new-engagement";

/** Up to so many are found by looking. */
const FEW = 6;

export function EngagementsScreen() {
  const [wanted, setWanted] = useState("");
  const filter = useRef<HTMLInputElement>(null);
  useKey("/", () => filter.current?.focus());
  const list = useQuery({
    queryKey: ["engagements"],
    queryFn: () => get("EngagementList", "/api/engagements"),
  });
  if (!list.data) return <Pending what="the engagements" error={list.error} />;
  const archived = list.data.engagements.filter((e) => e.archived_us !== null);
  const all = list.data.engagements.filter((e) => e.archived_us === null);
  const current = all.filter((e) => `${e.name} ${e.summary}`.toLowerCase().includes(wanted.toLowerCase()));
  return (
    <>
      <Trail steps={[]} title="Engagements" />
      <div className="mt-2 flex flex-wrap items-end justify-between">
        <h1 className="text-3xl tracking-tight">Engagements</h1>
        <div className="flex flex-wrap items-end gap-4">
          {all.length > FEW && (
            <label className="block w-56">
              <span className="text-sm text-soft">Filter</span>
              <input
                ref={filter}
                className={INPUT}
                value={wanted}
                onChange={(event) => setWanted(event.target.value)}
              />
            </label>
          )}
          <EngagementDialog>
            <Button act={list.data.engagements.length === 0}>New engagement …</Button>
          </EngagementDialog>
        </div>
      </div>
      {current.length === 0 && all.length > 0 && <p className="mt-6">No engagement matches “{wanted}”.</p>}
      {list.data.engagements.length === 0 && (
        <p className="mt-6 max-w-xl">
          There is no engagement here yet. An engagement is a customer project and its sites.
        </p>
      )}
      <ul className="rule mt-6">
        {current.map((e) => (
          <li key={e.slug} className="hair border-b py-4">
            <Link to={`/engagements/${e.slug}`} className="text-xl font-semibold hover:underline">
              {e.name}
            </Link>
            <p className="text-soft">
              {plural(e.sites, "site")} · {e.summary}
            </p>
          </li>
        ))}
      </ul>
      {archived.length > 0 && (
        <p className="mt-6 text-sm text-soft">
          Archived:{" "}
          {archived.map((e) => (
            <Link key={e.slug} to={`/engagements/${e.slug}`} className="mr-4 underline underline-offset-3">
              {e.name}
            </Link>
          ))}
        </p>
      )}
    </>
  );
}
