// How often a screen asks again: quickly while something changes, ever more slowly while nothing does. A page nobody
// looks at does not ask at all (refetchIntervalInBackground is off).
import type { Query } from "@tanstack/react-query";

const GROWS = 1.5;
const SLOWEST = 8;

interface Pace {
  data: unknown;
  /** When it last came: a screen is drawn more often than it is asked for. */
  at: number;
  interval: number;
}

/** For `refetchInterval`: from `fast` milliseconds to eight times as long. Same data keep their identity. */
export function slowing(fast: number) {
  const paces = new WeakMap<object, Pace>();
  // biome-ignore lint/suspicious/noExplicitAny: of any query
  return (query: Query<any, any, any, any>): number => {
    const { data, dataUpdatedAt: at } = query.state;
    const before = paces.get(query);
    if (before?.at === at) return before.interval;
    const same = before !== undefined && before.data === data;
    const interval = same ? Math.min(before.interval * GROWS, SLOWEST * fast) : fast;
    paces.set(query, { data, at, interval });
    return interval;
  };
}
