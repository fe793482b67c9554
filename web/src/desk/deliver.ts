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

/** Bring what was left by earlier tests of this link; when these were delivered, as Unix times in milliseconds. */
export async function deliverLeft(code: string): Promise<number[]> {
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
  const refused = answer.status >= 400 && answer.status < 500;
  if (answer.ok || refused) await tried(() => del(path, store()));
  if (answer.ok) return;
  const told = await answer.json().catch(() => ({ detail: `The server answered ${answer.status}.` }));
  throw new ApiError(answer.status, String(told.detail));
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
