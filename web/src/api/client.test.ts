import { afterEach, describe, expect, it, vi } from "vitest";
import { Problem } from "./call";

const reply = (status: number, body: unknown) =>
  Promise.resolve(
    new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } }),
  );

/** The client takes its fetch when it is made, so each test makes it anew. */
async function clientWith(fetch: (request: Request) => Promise<Response>) {
  vi.resetModules();
  vi.stubGlobal("fetch", fetch);
  vi.stubGlobal(
    "Request",
    class extends Request {
      constructor(input: string, init?: RequestInit) {
        super(new URL(input, "http://127.0.0.1"), init);
      }
    },
  );
  return import("./client");
}

describe("client", () => {
  afterEach(() => vi.unstubAllGlobals());
  it("sends the version that a change is based on", async () => {
    let sent: Request | undefined;
    const api = await clientWith((r) => {
      sent = r;
      return reply(200, { id: 3 });
    });
    await api.updateCase(3, 5, { title: "Kiosk" });
    expect(sent?.method).toBe("PUT");
    expect(sent?.url).toContain("/api/v1/cases/3");
    expect(sent?.headers.get("If-Match")).toBe('"5"');
  });
  it("says what the server said, with the places", async () => {
    const api = await clientWith(() =>
      reply(422, {
        title: "Unprocessable",
        detail: "validation failed",
        errors: [{ location: "body.title", message: "expected a name" }],
      }),
    );
    await expect(api.createCase({ title: "" })).rejects.toThrow("validation failed title: expected a name");
  });
  it("tells a file that may be insisted on from one that may not", () => {
    expect(new Problem(422, "zeros", "urn:latchkey:confirm").confirmable).toBe(true);
    expect(new Problem(422, "text").confirmable).toBe(false);
  });
  it("says so when the server does not answer", async () => {
    const api = await clientWith(() => Promise.reject(new TypeError("refused")));
    await expect(api.getCase(1)).rejects.toThrow("The server does not answer");
  });
});
