// The place screen's data: asked for while it is looked at, and replaced by the answer to every change.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { get, type Model, post, put, remove } from "../api/client";
import { slowing } from "../shared/polling";

const PACE = slowing(2000);

type Page = Model<"PlacePage">;
export type Change = (method: "post" | "put" | "remove", path: string, body?: object) => Promise<boolean>;

const METHODS = { post, put } as const;

export function usePlaces(slug: string) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const key = ["places", slug];
  const page = useQuery({
    queryKey: key,
    queryFn: () => get("PlacePage", `/api/sites/${slug}/place`),
    refetchInterval: PACE,
  });
  /** Asks for a change; true when it was made. What the server says against it is kept in `problem`. */
  const change: Change = useCallback(
    async (method, path, body = {}) => {
      const address = `/api/sites/${slug}/${path}`;
      try {
        const next: Page =
          method === "remove"
            ? await remove("PlacePage", address)
            : await METHODS[method]("PlacePage", address, body);
        queries.setQueryData(["places", slug], next);
        setProblem(null);
        return true;
      } catch (error) {
        setProblem((error as Error).message);
        return false;
      }
    },
    [queries, slug],
  );
  return { page, change, problem };
}
