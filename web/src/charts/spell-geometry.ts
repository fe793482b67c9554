// Where on the line of a week its days begin, and where the block of a spell lies.

const DAY_US = 86_400_000_000;
const LEAST = 3;

/** Midnights between two times as this browser has them, each as a share of the way. */
export function daysBetween(from: number, until: number): { at: number; name: string }[] {
  const first = new Date(from / 1000);
  first.setHours(24, 0, 0, 0);
  const found = [];
  for (let day = first; day.getTime() * 1000 < until; day = new Date(day.getTime() + DAY_US / 1000)) {
    day.setHours(0, 0, 0, 0);
    found.push({
      at: (day.getTime() * 1000 - from) / (until - from),
      name: day.toLocaleDateString("en-GB", { weekday: "short" }),
    });
  }
  return found;
}

/** Wide enough to be seen, and within the line. */
export function spellBlock(
  spell: { from_us: number; until_us: number | null },
  from: number,
  until: number,
  width: number,
): { x: number; width: number } {
  const x = (us: number) => (width * (Math.min(Math.max(us, from), until) - from)) / (until - from);
  const left = Math.min(x(spell.from_us), width - LEAST);
  return { x: left, width: Math.max(LEAST, x(spell.until_us ?? until) - left) };
}
