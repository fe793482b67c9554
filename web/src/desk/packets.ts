// The messages of the media channel, as tarnfell/wire/browser.py has them.
const PACKET = 1;
const QUESTION = 2;
const ANSWER = 3;
const PACKET_BYTES = 14;
const QUESTION_BYTES = 14;

export function packet(call: number, number: number, sentUs: number, filling: number): ArrayBuffer {
  const bytes = new ArrayBuffer(PACKET_BYTES + filling);
  const view = new DataView(bytes);
  view.setUint8(0, PACKET);
  view.setUint8(1, call);
  view.setUint32(2, number);
  view.setFloat64(6, sentUs);
  return bytes;
}

export function question(number: number, t1Us: number): ArrayBuffer {
  const bytes = new ArrayBuffer(QUESTION_BYTES);
  const view = new DataView(bytes);
  view.setUint8(0, QUESTION);
  view.setUint32(2, number);
  view.setFloat64(6, t1Us);
  return bytes;
}

export type Message =
  | { kind: "packet"; call: number; number: number }
  | { kind: "answer"; t1Us: number; t2Us: number; t3Us: number };

/** Null for what is neither. */
export function parse(bytes: ArrayBuffer): Message | null {
  const view = new DataView(bytes);
  const first = view.byteLength > 0 ? view.getUint8(0) : 0;
  if (first === PACKET && view.byteLength >= PACKET_BYTES) {
    return { kind: "packet", call: view.getUint8(1), number: view.getUint32(2) };
  }
  if (first === ANSWER && view.byteLength === QUESTION_BYTES + 16) {
    return { kind: "answer", t1Us: view.getFloat64(6), t2Us: view.getFloat64(14), t3Us: view.getFloat64(22) };
  }
  return null;
}
