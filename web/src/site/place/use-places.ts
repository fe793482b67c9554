// The place screen's data: asked for while it is looked at, and replaced by the answer to every change.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { get, type Model, post, put, remove } from "../../api/client";
import { slowing } from "../../ui/polling";

const PACE = slowing(2000);

type Page = Model<"PlacePage">;
type Method = "post" | "put" | "remove";
/** Asks for a change and shows what came of it; throws what the server says against it. */
export type Ask = (method: Method, path: string, body?: object) => Promise<void>;
/** The same for what has no form of its own: true when it was done, else the page says why not. */
export type Change = (method: Method, path: string, body?: object) => Promise<boolean>;

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
  const ask: Ask = useCallback(
    async (method, path, body = {}) => {
      const address = `/api/sites/${slug}/${path}`;
      const next: Page =
        method === "remove"
          ? await remove("PlacePage", address)
          : await METHODS[method]("PlacePage", address, body);
      queries.setQueryData(["places", slug], next);
      setProblem(null);
    },
    [queries, slug],
  );
  const change: Change = useCallback(
    async (method, path, body) => {
      try {
        await ask(method, path, body);
        return true;
      } catch (error) {
        setProblem((error as Error).message);
        return false;
      }
    },
    [ask],
  );
  return { page, ask, change, problem };
}
