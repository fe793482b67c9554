// Where along the path the host of a log of ping stands.
export type Role = "gateway" | "edge" | "outside" | "far-end";

export const ROLES: readonly (readonly [Role, string])[] = [
  ["gateway", "Gateway"],
  ["edge", "Provider’s edge"],
  ["outside", "Outside address"],
  ["far-end", "Far end"],
];

export function roleWords(role: Role): string {
  return ROLES.find(([key]) => key === role)?.[1] ?? role;
}
