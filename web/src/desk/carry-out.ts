// One step of a test: the straight way, and where nothing comes through it, the ways that are left. Loaded when a test
// begins, so that the page itself is there sooner.
import type { Model } from "../api/client";
import { throughRelay } from "./relay";
import { type Around, type Live, type Order, Session } from "./session";
import { BySocket, ByWebRtc, type Way } from "./way";

export { tryRelay } from "./relay";

type Found = Model<"SelfRun">["way"];

interface Step {
  order: Order;
  farEndId: number;
  code: string;
  /** By which something came through to this far end a moment ago: those before it are not tried again. */
  known: Found | null;
  page: Model<"TestPage">;
  around: Around;
  tell: (live: Live) => void;
  /** Is given each session as it begins, so that it can be stopped. */
  hold: (session: Session) => void;
}

/** By which way something was measured; null where nothing came through by any. */
export async function carryOut(step: Step): Promise<Found | null> {
  const { order, page, around, known } = step;
  const by = async (name: Found, way: Way) => {
    const session = new Session(order, step.code, step.tell, way, around);
    step.hold(session);
    return (await session.run(step.farEndId)) ? name : null;
  };
  let found: Found | null = null;
  if (known === null || known === "straight") {
    around.web = null; // of another step, or of a test before
    found = await by("straight", new ByWebRtc(null));
  }
  if (found === null && known !== "socket") {
    const relay = page.relay && throughRelay(page.relay, around.relays);
    if (relay) found = await by("relay", new ByWebRtc(relay));
  }
  if (found === null && page.socket) found = await by("socket", new BySocket(page.socket));
  return found;
}
