import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get } from "../api/client";
import { plural } from "../shared/format";
import { Pending, Trail } from "../shared/screen";

export function EngagementsScreen() {
  const list = useQuery({
    queryKey: ["engagements"],
    queryFn: () => get("EngagementList", "/api/engagements"),
  });
  if (!list.data) return <Pending what="the engagements" error={list.error} />;
  return (
    <>
      <Trail steps={[]} title="Engagements" />
      <h1 className="mt-2 text-3xl tracking-tight">Engagements</h1>
      {list.data.engagements.length === 0 && (
        <p className="mt-6 max-w-xl">
          There is no engagement here yet. An engagement is one customer’s question, asked of each of its
          sites.
        </p>
      )}
      <ul className="rule mt-6">
        {list.data.engagements.map((e) => (
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
    </>
  );
}
