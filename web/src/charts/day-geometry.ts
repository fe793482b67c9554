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
