// Two sets of values on one axis: each value a dot, sets in two rows, the dots shaken apart by their own order.

export interface Axis {
  low: number;
  high: number;
}

/** One axis for both sets, with room at its ends. */
export function axisOf(first: number[], second: number[], least: number): Axis {
  const all = [...first, ...second];
  const low = Math.min(...all);
  const high = Math.max(...all);
  const room = Math.max(least, (high - low) * 0.06);
  return { low: low - room, high: high + room };
}

export function along(axis: Axis, value: number, width: number): number {
  return (width * (value - axis.low)) / (axis.high - axis.low);
}

/** A steady scatter across the row: the same value always falls on the same place. */
export function across(index: number, height: number): number {
  return ((index * 0.618_034) % 1) * height;
}
