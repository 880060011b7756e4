import { type ChildProcess, execFileSync, spawn } from "node:child_process";
import { chmodSync, mkdtempSync, openSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

const root = join(import.meta.dirname, "..");

/** Starts a database and a server of the tests' own on free ports, with the demo world; ends both afterwards. */
export default async function setup() {
  const folder = mkdtempSync(join(tmpdir(), "latchkey-e2e-"));
  chmodSync(folder, 0o755);
  const database = (action: string) =>
    execFileSync(join(root, "scripts/database"), [action, join(folder, "database")], { encoding: "utf8" });
  const env = { ...process.env, LATCHKEY_DATABASE: database("start").trim() };
  execFileSync(join(root, ".bin/latchkey"), ["demo"], { env, stdio: "inherit" });
  const log = openSync(join(folder, "server.log"), "w");
  const server = spawn(join(root, ".bin/latchkey"), ["serve", "--listen", "127.0.0.1:0"], {
    env,
    stdio: ["ignore", "pipe", log],
  });
  const [url, key] = (await address(server)).split("/#key=");
  process.env.LATCHKEY_URL = url;
  process.env.LATCHKEY_STATE = await signedIn(url!, key!, join(folder, "state.json"));
  process.env.LATCHKEY_E2E_DATABASE = join(folder, "database");
  return async () => {
    server.kill("SIGTERM");
    await new Promise((done) => server.once("exit", done));
    database("stop");
    rmSync(folder, { recursive: true, force: true });
  };
}

/** Signs the demo world's lead in by the key that the server printed, and keeps the session for the tests. */
async function signedIn(url: string, key: string, file: string): Promise<string> {
  const answer = await fetch(`${url}/api/v1/session`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ key }),
  });
  const [name, value] = answer.headers.get("Set-Cookie")?.split(";")[0]?.split("=") ?? [];
  if (!answer.ok || !value) throw new Error(`signing in: ${answer.status} ${await answer.text()}`);
  const cookie = { name, value, domain: "127.0.0.1", path: "/", expires: -1, httpOnly: true, secure: false, sameSite: "Strict" };
  writeFileSync(file, JSON.stringify({ cookies: [cookie], origins: [] }));
  return file;
}

function address(server: ChildProcess): Promise<string> {
  return new Promise((resolve, reject) => {
    let said = "";
    server.stdout?.on("data", (chunk: Buffer) => {
      said += chunk.toString();
      const url = /http:\/\/\S+/.exec(said)?.[0];
      if (url) resolve(url);
    });
    server.once("exit", (code) => reject(new Error(`the server ended with ${code}: ${said}`)));
  });
}
