// One step of a test: the straight way, and where nothing comes through it, the ways that are left. Loaded when a test
// begins, so that the page itself is there sooner.
import type { Model } from "../api/client";
import { throughRelay } from "./relay";
import { type Around, type Live, type Order, Session } from "./session";
import { BySocket, ByWebRtc, type Way } from "./way";

export { tryRelay } from "./relay";

interface Step {
  order: Order;
  farEndId: number;
  code: string;
  page: Model<"TestPage">;
  around: Around;
  tell: (live: Live) => void;
  /** Is given each session as it begins, so that it can be stopped. */
  hold: (session: Session) => void;
}

/** By which way something was measured; null where nothing came through by any. */
export async function carryOut(step: Step): Promise<"straight" | "other" | null> {
  const { order, page, around } = step;
  const by = (way: Way) => {
    const session = new Session(order, step.code, step.tell, way, around);
    step.hold(session);
    return session.run(step.farEndId);
  };
  around.web = null; // of another step, or of a test before
  if (await by(new ByWebRtc(null))) return "straight";
  if (order.fill) return null;
  const relay = page.relay && throughRelay(page.relay, around.relays);
  if (relay && (await by(new ByWebRtc(relay)))) return "other";
  if (page.socket && (await by(new BySocket(page.socket)))) return "other";
  return null;
}
