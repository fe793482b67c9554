/** The whole address of a page for people outside, by the name of this server that they are to see. */
export function linkOf({ origin, path }: { origin: string; path: string }): string {
  return `${origin || location.origin}${path}`;
}
