// What a screen shows is in its address, so that it can be copied as a link: one value by one name.
import { useCallback } from "react";
import { useSearchParams } from "react-router";

type Values = Record<string, string>;

/**
 * The address's values, how to set one, and how to set several at once; an empty value leaves the address. Back skips
 * what was only adjusted.
 */
export function useAddress(): [
  URLSearchParams,
  (name: string, value: string) => void,
  (values: Values) => void,
] {
  const [search, setSearch] = useSearchParams();
  const setAll = useCallback(
    (values: Values) =>
      setSearch(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [name, value] of Object.entries(values)) {
            if (value) next.set(name, value);
            else next.delete(name);
          }
          return next;
        },
        { replace: true },
      ),
    [setSearch],
  );
  const set = useCallback((name: string, value: string) => setAll({ [name]: value }), [setAll]);
  return [search, set, setAll];
}
