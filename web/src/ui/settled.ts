// A value once it has stopped changing, so that the server is not asked at every key.
import { useEffect, useState } from "react";

const PAUSE_MS = 250;

export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}
