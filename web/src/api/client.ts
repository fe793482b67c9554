// The one HTTP client: typed by the generated schema, errors as the server's own sentence.
import type { components } from "./schema";
import { unbroken } from "./sentences";

type Schemas = components["schemas"];
export type Model<Name extends keyof Schemas> = Schemas[Name];

export class ApiError extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

let csrf = "";

export function keepCsrf(token: string): void {
  csrf = token;
}

export async function get<Name extends keyof Schemas>(_model: Name, path: string): Promise<Schemas[Name]> {
  return request("GET", path);
}

export async function post<Name extends keyof Schemas>(
  _model: Name,
  path: string,
  body: object,
): Promise<Schemas[Name]> {
  return request("POST", path, body);
}

export async function put<Name extends keyof Schemas>(
  _model: Name,
  path: string,
  body: object,
): Promise<Schemas[Name]> {
  return request("PUT", path, body);
}

export async function remove<Name extends keyof Schemas>(
  _model: Name | null,
  path: string,
): Promise<Schemas[Name]> {
  return request("DELETE", path);
}

/** Sends a file as it is. */
export async function upload<Name extends keyof Schemas>(
  _model: Name,
  path: string,
  file: Blob,
): Promise<Schemas[Name]> {
  return request("POST", path, file);
}

async function request<T>(method: string, path: string, body?: object): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(path, {
      method,
      headers: {
        "Content-Type": body instanceof Blob ? "application/octet-stream" : "application/json",
        "X-CSRF-Token": csrf,
      },
      ...(body ? { body: body instanceof Blob ? body : JSON.stringify(body) } : {}),
    });
  } catch {
    throw new ApiError(0, "The server does not answer. What you see may be out of date; it is asked again.");
  }
  const text = await answer.text();
  if (!answer.ok) {
    throw new ApiError(answer.status, problemDetail(text, answer));
  }
  return unbroken(JSON.parse(text)) as T;
}

function problemDetail(text: string, answer: Response): string {
  try {
    return String(JSON.parse(text).detail);
  } catch {
    return `The server answered ${answer.status} ${answer.statusText}.`;
  }
}
