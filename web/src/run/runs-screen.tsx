// All runs of a site, newest first, found by what they are called or what came of them.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../api/client";
import { useAddress } from "../ui/address";
import { Field, INPUT } from "../ui/controls";
import { plural } from "../ui/format";
import { useKey } from "../ui/keys";
import { Pager } from "../ui/pager";
import { Pending, Trail } from "../ui/screen";
import { useSettled } from "../ui/settled";
import { RunTable } from "./run-table";

const PAGE = 25;

export function RunsScreen({ id }: { id: string }) {
  const [search, set] = useAddress();
  const [typed, setTyped] = useState(search.get("words") ?? "");
  const words = useSettled(typed).trim();
  const page = Math.max(0, Number(search.get("page") ?? 0) || 0);
  useKey("/", () => document.getElementById("find-runs")?.focus());
  const list = useQuery({
    queryKey: ["runs", id, page, words],
    queryFn: () =>
      get(
        "RunList",
        `/api/sites/${id}/runs?${new URLSearchParams({ limit: String(PAGE), offset: String(page * PAGE), words })}`,
      ),
    placeholderData: keepPreviousData,
  });
  if (!list.data) return <Pending what="the runs" error={list.error} />;
  const { runs, total, site_name, engagement_slug, engagement_name, time_zone } = list.data;
  return (
    <>
      <Trail
        steps={[
          ["/", "Today"],
          [`/engagements/${engagement_slug}`, engagement_name],
          [`/sites/${id}`, site_name],
        ]}
        title={`Runs at ${site_name}`}
      />
      <h1 className="mt-2 text-3xl tracking-tight">Runs at {site_name}</h1>
      <div className="mt-4 mb-4 flex flex-wrap items-end gap-6">
        <div className="w-80">
          <Field label="Find by name, note, codec, state or failure">
            <input
              id="find-runs"
              type="search"
              className={INPUT}
              value={typed}
              onChange={(event) => {
                setTyped(event.target.value);
                set("page", "");
                set("words", event.target.value);
              }}
            />
          </Field>
        </div>
        <p role="status" className="pb-2 text-soft">
          {plural(total, "run")}
          {words && ` with “${words}”`}
        </p>
      </div>
      {total === 0 ? (
        <p>{words ? "No run matches." : "No run has been placed here yet."}</p>
      ) : (
        <RunTable runs={runs} timeZone={time_zone} />
      )}
      <Pager page={page} size={PAGE} total={total} onPage={(i) => set("page", i ? String(i) : "")} />
    </>
  );
}
