// What a test measured, brought to the server: kept by this browser until the server has it, so that a page that is
// closed, or a line that stays down, loses nothing. It is brought when the link is opened again.
import { createStore, del, entries, set } from "idb-keyval";
import { ApiError } from "../api/client";

const TRIES = 60;
const PAUSE_MS = 5000;

const pause = (forMs: number) => new Promise((done) => setTimeout(done, forMs));

interface Kept {
  body: string;
  /** Unix time in milliseconds. */
  atMs: number;
}

/** Where it is to be put, and what; a browser that keeps nothing goes on without. */
const store = () => createStore("tarnfell-test", "halves");

export async function deliver(path: string, body: string): Promise<void> {
  const kept: Kept = { body, atMs: Date.now() };
  await tried(() => set(path, kept, store()));
  for (let tries = TRIES; ; tries--) {
    try {
      await put(path, body);
      return;
    } catch (error) {
      if (isRefused(error) || tries === 0) throw error;
      await pause(PAUSE_MS);
    }
  }
}

const AT_ONCE = "tarnfell-test ";

/** As a page goes, which waits for nothing; a browser that keeps nothing goes on without. */
export function keepAtOnce(path: string, body: string): void {
  const kept: Kept = { body, atMs: Date.now() };
  try {
    localStorage.setItem(AT_ONCE + path, JSON.stringify(kept));
  } catch {
    // More than it holds, or nothing may be kept.
  }
}

/** What was kept at once, put beside the rest. */
async function takenOver(): Promise<void> {
  for (const key of Object.keys(localStorage).filter((one) => one.startsWith(AT_ONCE))) {
    await set(key.slice(AT_ONCE.length), JSON.parse(localStorage.getItem(key) ?? ""), store());
    localStorage.removeItem(key);
  }
}

/** Bring what was left by earlier tests of this link; when these were delivered, as Unix times in milliseconds. */
export async function deliverLeft(code: string): Promise<number[]> {
  await tried(takenOver);
  const all = (await tried(() => entries<string, Kept>(store()))) ?? [];
  const brought: number[] = [];
  for (const [path, { body, atMs }] of all) {
    if (!path.startsWith(`/api/test/${code}/`)) continue;
    try {
      await put(path, body);
      brought.push(atMs);
    } catch {
      // It stays until the server can be reached; what the server does not want is gone.
    }
  }
  return brought;
}

async function put(path: string, body: string): Promise<void> {
  const answer = await fetch(path, {
    method: "PUT",
    headers: { "Content-Type": "application/octet-stream" },
    body,
  });
  // A portal in between may answer in the server's place, with any status: only the server's own word counts.
  const told = await tried(() => answer.json());
  if (answer.ok && typeof told?.state === "string") {
    await tried(() => del(path, store()));
    return;
  }
  if (answer.ok || typeof told?.detail !== "string")
    throw new Error(`Something other than the server answered, with ${answer.status}.`);
  const error = new ApiError(answer.status, told.detail);
  if (isRefused(error)) await tried(() => del(path, store()));
  throw error;
}

function isRefused(error: unknown): boolean {
  return error instanceof ApiError && error.status >= 400 && error.status < 500;
}

async function tried<T>(act: () => Promise<T>): Promise<T | null> {
  try {
    return await act();
  } catch {
    return null;
  }
}
