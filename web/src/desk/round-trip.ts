// How far it is to a far end, from this browser.
import { post } from "../api/client";
import { FarLink } from "./far-link";
import { parse, question } from "./packets";

const CONNECT_MS = 8000;
const QUESTIONS = 8;
const EVERY_MS = 60;
const LAST_ANSWER_MS = 500;

/** There and back, the shortest of some; null where no packet came back. Throws an Error that says what stood in the way. */
export async function roundTripMs(code: string, farEndId: number): Promise<number | null> {
  const far = new FarLink(null);
  try {
    const offer = await far.offer();
    const { answer } = await post("TestAnswer", `/api/test/${code}/round-trips`, {
      far_end_id: farEndId,
      offer,
    });
    if (!(await far.opened(answer, CONNECT_MS))) return null;
    let least: number | null = null;
    far.media.onmessage = (event) => {
      const at = performance.now();
      const message = parse(event.data);
      if (message?.kind !== "answer") return;
      const tookMs = at - message.t1Us / 1000 - (message.t3Us - message.t2Us) / 1000;
      least = Math.min(least ?? tookMs, tookMs);
    };
    for (let number = 0; number < QUESTIONS; number++) {
      far.media.send(question(number, performance.now() * 1000));
      await new Promise((done) => setTimeout(done, EVERY_MS));
    }
    await new Promise((done) => setTimeout(done, least === null ? LAST_ANSWER_MS : 0));
    far.control.send(JSON.stringify({ finish: true }));
    return least;
  } finally {
    far.close();
  }
}
