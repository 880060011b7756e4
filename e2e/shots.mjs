// Takes pictures of screens: node shots.mjs OUT-FOLDER [--size 1280x800] [--theme dark] NAME=PATH...
// A path may end in #NAME: the button whose name begins so is pressed first; a tab
// with #tab:NAME. {WORDS} in it is the number of the first case that is found by them. With --key the key is used up to sign in; with --state FILE the
// session is kept in a file for the next run. A name that ends in + is taken with all that is below the fold.
import { chromium } from "@playwright/test";
import { existsSync } from "node:fs";
import { chromiumArgs } from "./chromium.mjs";
import { signIn } from "./sign-in.mjs";

const [folder, ...rest] = process.argv.slice(2);
const option = (name, fallback) => {
  const i = rest.indexOf(`--${name}`);
  return i < 0 ? fallback : rest.splice(i, 2)[1];
};
const [width, height] = option("size", "1280x800").split("x").map(Number);
const theme = option("theme", "light");
const base = option("base", process.env.LATCHKEY_URL ?? "http://127.0.0.1:8384");
const key = option("key", "");
const state = option("state", "");

const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: chromiumArgs });
const context = await browser.newContext({
  viewport: { width, height },
  colorScheme: theme,
  reducedMotion: "reduce",
  storageState: state && existsSync(state) ? state : undefined,
});
const page = await context.newPage();
page.on("pageerror", (e) => console.log("page error:", e.message));
page.on("console", (m) => m.type() === "error" && console.log("console:", m.text()));
if (key) await signIn(page, base, key);
if (key && state) await context.storageState({ path: state });

/** A path with the numbers of the cases that it finds by words. */
async function numbered(path) {
  const words = /{(.*?)}/.exec(path);
  if (!words) return path;
  const found = await page.request.get(`${base}/api/v1/cases?q=${encodeURIComponent(words[1])}`);
  const [first] = (await found.json()).cases;
  if (!first) throw new Error(`no case is found by ${words[1]}`);
  return path.replace(words[0], first.id);
}

for (const shot of rest) {
  const at = shot.indexOf("=");
  const [path, button] = shot.slice(at + 1).split("#");
  await page.goto(base + (await numbered(path)));
  await page.waitForLoadState("networkidle");
  if (button) {
    const [, tab, name] = /^(tab:)?(.*)$/.exec(decodeURIComponent(button));
    await page
      .getByRole(tab ? "tab" : "button", { name: new RegExp(`^${name}`) })
      .first()
      .click();
    await page.waitForLoadState("networkidle");
    await page.waitForTimeout(400);
  }
  await page.evaluate(() => document.fonts.ready);
  await page.waitForFunction(() => document.querySelector("main [role=progressbar]") === null);
  const name = shot.slice(0, at);
  await page.screenshot({ path: `${folder}/${name.replace("+", "")}.png`, fullPage: name.endsWith("+") });
}
await browser.close();
