import AxeBuilder from "@axe-core/playwright";
import { type Page, expect, test as base } from "@playwright/test";

/** A page that knows the server's address and fails on any error of the browser. */
export const test = base.extend({
  // eslint-disable-next-line no-empty-pattern
  baseURL: async ({}, use) => use(process.env.LATCHKEY_URL),
  // eslint-disable-next-line no-empty-pattern
  storageState: async ({}, use) => use(process.env.LATCHKEY_STATE),
  page: async ({ page }, use) => {
    const errors: string[] = [];
    page.on("pageerror", (e) => errors.push(e.message));
    page.on("console", (m) => {
      // A refused upload or save is shown on the page; the browser logs it too.
      if (m.type() === "error" && !/status of 4\d\d|status of 503/.test(m.text())) errors.push(m.text());
    });
    page.on("request", (r) => {
      if (!r.url().startsWith(process.env.LATCHKEY_URL ?? "") && !r.url().startsWith("data:"))
        errors.push(`left this machine: ${r.url()}`);
    });
    await use(page);
    expect(errors).toEqual([]);
  },
});

export async function openCase(page: Page, title: string) {
  await page.goto("/cases");
  await page.getByRole("link", { name: title, exact: true }).click();
  await expect(page.getByRole("region", { name: "Verdict" })).toBeVisible();
}

export const headline = (page: Page) => page.getByRole("region", { name: "Verdict" }).getByRole("heading");

/** The automatic audit of WCAG 2.2, levels A and AA. */
export async function audit(page: Page) {
  const { violations } = await new AxeBuilder({ page })
    .withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"])
    .analyze();
  expect(violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.target.join(" ")).join(", ")}`)).toEqual([]);
}

export { expect };
