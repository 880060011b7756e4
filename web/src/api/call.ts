import createClient from "openapi-fetch";
import type { paths } from "./generated/schema";

/** An answer of the server that says what went wrong (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly type?: string,
  ) {
    super(message);
  }
  /** The file may be a disk after all: a person may insist. */
  get confirmable() {
    return this.type === "urn:latchkey:confirm";
  }
}

export const client = createClient<paths>({ baseUrl: "/api/v1" });

export interface Result<T> {
  data?: T;
  error?: {
    detail?: string;
    title?: string;
    type?: string;
    errors?: { location?: string; message?: string }[] | null;
  };
  response: Response;
}

export async function unwrap<T>(call: Promise<Result<T>>): Promise<T> {
  let result: Result<T>;
  try {
    result = await call;
  } catch {
    throw new Problem(0, "The server does not answer. Try again in a moment.");
  }
  if (result.error !== undefined || (result.data === undefined && result.response.status !== 204))
    throw problemOf(result);
  return result.data as T;
}

export function problemOf({ error, response }: Result<unknown>): Problem {
  const details = error?.errors?.map((e) => `${e.location?.replace(/^body\./, "")}: ${e.message}`).join("; ");
  const text = [error?.detail ?? error?.title ?? `The server answered ${response.status}.`, details];
  return new Problem(response.status, text.filter(Boolean).join(" "), error?.type);
}

export const etag = (version: number) => `"${version}"`;

/** A case with the version that a change is based on. */
export const changing = (id: number, version: number) => ({
  path: { id },
  header: { "If-Match": etag(version) },
});
