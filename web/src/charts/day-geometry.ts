// When business hours begin and end on a day, apart from whatever draws it.

/** Minutes with the way the bracket opens: 4 to the right where hours begin, -4 where they end, over night as well. */
export function openings(
  hours: { open_minute: number; close_minute: number; open_days: string },
  day: string,
): [number, number][] {
  const today = new Date(`${day}T12:00:00Z`).getUTCDay() || 7;
  const opens = hours.open_days.includes(String(today));
  const overNight = hours.close_minute < hours.open_minute;
  const closes = overNight ? hours.open_days.includes(String(today === 1 ? 7 : today - 1)) : opens;
  return [
    ...(closes && overNight ? ([[hours.close_minute, -4]] as [number, number][]) : []),
    ...(opens ? ([[hours.open_minute, 4]] as [number, number][]) : []),
    ...(closes && !overNight ? ([[hours.close_minute, -4]] as [number, number][]) : []),
  ];
}

/** The minutes of a day that weekly spans cover; those that pass midnight belong to the day they begin on. */
export function spansOf(
  weekly: { days?: string; from_minute: number; to_minute: number }[],
  day: string,
): [from: number, until: number][] {
  const number = new Date(`${day}T12:00:00Z`).getUTCDay() || 7;
  const before = number === 1 ? 7 : number - 1;
  return weekly.flatMap(({ days = "1234567", from_minute, to_minute }) => {
    const today = days.includes(String(number));
    if (from_minute < to_minute) return today ? [[from_minute, to_minute] as [number, number]] : [];
    const found: [number, number][] = [];
    if (days.includes(String(before)) && to_minute > 0) found.push([0, to_minute]);
    if (today) found.push([from_minute, 1440]);
    return found;
  });
}
