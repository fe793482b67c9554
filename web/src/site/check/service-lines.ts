// Services as lines of text and back: name host port protocol, then a path of HTTP and a certificate's digest.
export interface Service {
  name: string;
  host: string;
  port: number;
  protocol: "tcp" | "tls" | "http" | "https" | "stun" | "dns" | "sip";
  sha256: string;
  path: string;
}

export const PROTOCOLS = ["tcp", "tls", "http", "https", "stun", "dns", "sip"];
const SECURED = ["tls", "https"];
const FETCHED = ["http", "https"];

export function lineOf(one: Service): string {
  const path = one.path === "/" ? "" : one.path;
  return [one.name, one.host, one.port, one.protocol, path, one.sha256].filter(Boolean).join(" ");
}

/** The service, or what is wrong with the line. The name may be of several words. */
export function serviceOf(text: string): Service | string {
  const parts = text.trim().split(/\s+/);
  const at = parts.findIndex((part, place) => place > 2 && PROTOCOLS.includes(part.toLowerCase()));
  const protocol = (parts[at] ?? "").toLowerCase() as Service["protocol"];
  const port = Number(parts[at - 1]);
  const host = parts[at - 2];
  const name = parts.slice(0, at - 2).join(" ");
  const rest = parts.slice(at + 1);
  const path = FETCHED.includes(protocol) && rest[0]?.startsWith("/") ? (rest.shift() ?? "/") : "/";
  const digest =
    SECURED.includes(protocol) && /^[0-9a-f:]{64,95}$/i.test(rest[0] ?? "") ? (rest.shift() ?? "") : "";
  if (at < 3 || rest.length > 0 || !host || !name || !Number.isInteger(port) || port < 1 || port > 65535)
    return `“${text.trim()}” is no service: write name, host, port and one of ${PROTOCOLS.join(", ")}; of http and https also a path such as /health, of tls and https the certificate’s SHA-256, if it is to be a certain one.`;
  return { name, host, port, protocol, sha256: digest, path };
}

/** All services of a text, or what is wrong with the first line that is none. */
export function servicesOf(text: string): Service[] | string {
  const found: Service[] = [];
  for (const line of text.split("\n").filter((one) => one.trim())) {
    const one = serviceOf(line);
    if (typeof one === "string") return one;
    found.push(one);
  }
  return found;
}

export const textOf = (services: Service[]): string => services.map(lineOf).join("\n");
