// A page that is asked again while something on it goes on, and changed by what the server answers.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Model } from "../api/client";

const IDLE_MS = 10_000;
const BUSY_MS = 700;

/** Of a job: it has not ended yet. */
export const underWay = (job: { state: Model<"CheckView">["state"] }) =>
  ["waiting", "taken", "running"].includes(job.state);

type Name = Parameters<typeof get>[0];

const placeOf = (path: unknown) => String(path).split("?")[0];

export function useLivePage<N extends Name>(model: N, path: string, isBusy: (page: Model<N>) => boolean) {
  const queries = useQueryClient();
  const [problem, setProblem] = useState<string | null>(null);
  const key = ["page", path];
  const page = useQuery({
    queryKey: key,
    queryFn: () => get(model, path),
    // Another view of the same page takes the place of the one before without an empty screen between.
    placeholderData: (before, query) => (placeOf(query?.queryKey[1]) === placeOf(path) ? before : undefined),
    refetchInterval: ({ state }) => (state.data && isBusy(state.data as Model<N>) ? BUSY_MS : IDLE_MS),
  });
  /** Whether what was asked of the server was done; its sentence stands in `problem` where it was not. */
  const change = async (asked: Promise<Model<N>>) => {
    try {
      const answer = await asked;
      // An answer that was asked for before the change must not come after it.
      await queries.cancelQueries({ queryKey: key });
      queries.setQueryData(key, answer);
      setProblem(null);
      return true;
    } catch (error) {
      setProblem((error as Error).message);
      return false;
    }
  };
  return { page, problem, change };
}
