// What a screen shows is in its address, so that it can be copied as a link: one value by one name.
import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** The address's values, and how to set one; an empty value leaves the address. Back skips what was only adjusted. */
export function useAddress(): [URLSearchParams, (name: string, value: string) => void] {
  const [search, setSearch] = useSearchParams();
  const set = useCallback(
    (name: string, value: string) =>
      setSearch(
        (before) => {
          const next = new URLSearchParams(before);
          if (value) next.set(name, value);
          else next.delete(name);
          return next;
        },
        { replace: true },
      ),
    [setSearch],
  );
  return [search, set];
}
