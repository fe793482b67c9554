// From packets of each second to steps, apart from whatever draws them. A second is a step as wide as the others.
export const FLOW = { width: 1040, height: 90, left: 4, right: 110 };

/** The packets that the picture's upper edge stands for: a little above the most there were. */
export function topOf(...counts: number[][]): number {
  const most = Math.max(1, ...counts.flat());
  const unit = 10 ** Math.floor(Math.log10(most));
  const step = most / unit <= 2 ? unit / 2 : unit;
  return Math.ceil(most / step) * step;
}

/** A path of steps, from the left edge to the end of the last second. */
export function stepsOf(counts: number[], seconds: number, top: number): string {
  return counts
    .map(
      (count, second) =>
        `${second === 0 ? "M" : "L"}${xOf(second, seconds)} ${yOf(count, top)}H${xOf(second + 1, seconds)}`,
    )
    .join("");
}

/** Of the packets that left in each second, those that never came: they hang below the line of what left. */
export function missingOf(sent: number[], lost: number[], seconds: number, top: number): string {
  return sent
    .map((count, second) => {
      const got = count - Math.min(count, lost[second] ?? 0);
      if (got === count) return "";
      return `M${xOf(second, seconds)} ${yOf(count, top)}H${xOf(second + 1, seconds)}V${yOf(got, top)}H${xOf(second, seconds)}Z`;
    })
    .join("");
}

export const xOf = (second: number, seconds: number) =>
  round(FLOW.left + (second / Math.max(1, seconds)) * (FLOW.width - FLOW.left - FLOW.right));

export const yOf = (count: number, top: number) => round(FLOW.height * (1 - count / top));

const round = (value: number) => Math.round(value * 10) / 10;
