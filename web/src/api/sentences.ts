// Sentences that the server has made: no line ends between a figure and its unit.
const MADE = new Set([
  "acceptable_words",
  "alternatives",
  "cautions",
  "closes",
  "failure",
  "gain",
  "missing",
  "reasons",
  "says",
  "state_words",
  "why",
]);
/** Fields with what people have typed are not among them: that goes back into forms as it was. */
const FIGURE = /(\d) (?=(?:ms|s|min|h|%|[kM]bit\/s|[kMG]B|MOS|dB)(?!\w))/g;

/** An answer of the server, whose objects are its own: changed in place. */
export function unbroken(answer: unknown, made = false): unknown {
  if (typeof answer === "string") return made ? answer.replace(FIGURE, "$1\u00a0") : answer;
  if (Array.isArray(answer)) {
    // A watch's page has hundreds of thousands of figures.
    if (typeof answer[0] === "number") return answer;
    for (const [place, one] of answer.entries()) answer[place] = unbroken(one, made);
  } else if (answer !== null && typeof answer === "object") {
    const fields = answer as Record<string, unknown>;
    for (const name of Object.keys(fields)) fields[name] = unbroken(fields[name], MADE.has(name));
  }
  return answer;
}
