// How steadily the web server answers: the last way that is left where neither UDP nor a relay passes.
import type { Model } from "../api/client";
import { within } from "./far-link";

const REQUESTS = 20;
const LONGEST_MS = 3000;

/** One after another, over the connection that the browser keeps; the first opens it and is not counted. */
export async function tryWeb(): Promise<Model<"WebFound">> {
  const took: number[] = [];
  for (let number = 0; number <= REQUESTS; number++) {
    const began = performance.now();
    const answered = await within(
      LONGEST_MS,
      fetch("/api/health", { cache: "no-store" })
        .then((answer) => answer.text())
        .then(
          () => true,
          () => false,
        ),
    );
    if (answered && number > 0) took.push(performance.now() - began);
    if (answered === null) return found(number, took);
  }
  return found(REQUESTS, took);
}

function found(asked: number, took: number[]): Model<"WebFound"> {
  const ordered = [...took].sort((a, b) => a - b);
  return {
    asked: Math.max(asked, 1),
    answered: took.length,
    median_ms: ordered[Math.floor(ordered.length / 2)] ?? 0,
    most_ms: ordered.at(-1) ?? 0,
  };
}
