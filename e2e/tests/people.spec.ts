import { audit, expect, openCase, test } from "./screens";

const nobody = { cookies: [], origins: [] };
const password = "three herrings on a pier";

// Signed in as nobody: these tests begin at the door.
test.describe("at the door", () => {
  // eslint-disable-next-line no-empty-pattern
  test.use({ storageState: async ({}, use) => use(nobody) });

  test("nobody gets in without a key or a password", async ({ page }) => {
    await page.goto("/cases");
    await expect(page.getByRole("heading", { name: "Latchkey" })).toBeVisible();
    await page.getByLabel("Name").fill("Sunniva");
    await page.getByLabel("Password").fill("not the password");
    await page.getByRole("button", { name: "Sign in" }).click();
    await expect(page.getByRole("alert")).toContainText("do not fit together");
    await page.goto("/cases#key=made-up");
    await expect(page.getByRole("alert")).toContainText("The key was used already");
    await audit(page);
    await page.emulateMedia({ colorScheme: "dark" });
    await audit(page);
  });
});

test("a lead makes an account, its person comes in once by the key and then by a password", async ({
  page,
  browser,
}) => {
  test.setTimeout(120_000);
  await page.goto("/settings");
  const people = page.getByRole("region", { name: "People" });
  await people.getByLabel("Name of a new person").fill("Eirik");
  await people.getByRole("button", { name: "Make the account" }).click();
  const link = await people.locator("pre, code").filter({ hasText: "#key=" }).first().innerText();
  await expect(people.getByRole("row", { name: /Eirik/ })).toContainText("by a key");
  await audit(page);
  await page.emulateMedia({ colorScheme: "dark" });
  await audit(page);

  const context = await browser.newContext({ baseURL: process.env.LATCHKEY_URL, storageState: nobody });
  const other = await context.newPage();
  await other.goto(link.trim());
  await expect(other.getByRole("heading", { name: "Cases" })).toBeVisible();
  expect(other.url()).not.toContain("key=");
  await other.goto("/settings");
  await expect(other.getByRole("region", { name: "People" })).toHaveCount(0);
  const account = other.getByRole("region", { name: "Your account" });
  await account.getByLabel("Password").fill("short");
  await account.getByRole("button", { name: "Set the password" }).click();
  await expect(account.getByRole("alert")).toContainText("expected at least 12");
  await account.getByLabel("Password").fill(password);
  await account.getByRole("button", { name: "Set the password" }).click();
  await expect(account).toContainText("Password as it is");
  await account.getByRole("button", { name: "Sign out", exact: true }).click();
  await expect(other.getByRole("heading", { name: "Latchkey" })).toBeVisible();
  await other.goto(link.trim());
  await expect(other.getByRole("alert")).toContainText("The key was used already");
  await other.getByLabel("Name").fill("eirik");
  await other.getByLabel("Password").fill(password);
  await other.keyboard.press("Enter");
  await expect(other.getByText("Eirik", { exact: true })).toBeVisible();

  // What the person was allowed is over at once; what is typed stays under the sign-in.
  await openCase(other, "Bridge laptop, ferry Sandpiper");
  await other.getByRole("link", { name: "First start" }).click();
  await other.getByLabel("Its capacity").fill("500 GB");
  await page.reload();
  await people.getByLabel("Role of Eirik").click({ force: true });
  await page.getByRole("option", { name: "reader" }).click();
  await expect(people.getByLabel("Role of Eirik")).toContainText("reader");
  await other.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(other.getByRole("dialog", { name: "Sign in again" })).toBeVisible();
  await other.getByLabel("Name").fill("Eirik");
  await other.getByLabel("Password").fill(password);
  await other.keyboard.press("Enter");
  await expect(other.getByRole("dialog", { name: "Sign in again" })).toHaveCount(0);
  await expect(other.getByText(/your role is reader/)).toBeVisible();
  await other.goto("/cases");
  await expect(other.getByRole("button", { name: "New case" })).toHaveCount(0);
  await context.close();
  await page.reload();
  const log = page.getByRole("region", { name: "Security log" });
  await expect(log).toContainText("Eirik: now reader");
  await expect(log).toContainText("signed in by a key");
  await expect(log).toContainText("sign-in refused: key");
});

test("a case tells who did what, is closed, and is deleted by naming it", async ({ page, request }) => {
  const made = await request.post("/api/v1/cases", { data: { title: "Practice case" } });
  const { id } = (await made.json()) as { id: number };
  await page.goto(`/cases/${id}/check`);
  await page.getByRole("button", { name: "Case …" }).click();
  await page.getByRole("menuitem", { name: "Close the case" }).click();
  await expect(page.getByRole("heading", { name: /Practice case · closed/ })).toBeVisible();
  await page.getByRole("button", { name: "Case …" }).click();
  await page.getByRole("menuitem", { name: "History" }).click();
  const history = page.getByRole("dialog", { name: "History of Practice case" });
  await expect(history.getByRole("row")).toHaveCount(2);
  await expect(history.getByRole("row").first()).toContainText("Sunniva");
  await expect(history.getByRole("row").first()).toContainText("case closed");
  await audit(page);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Case …" }).click();
  await page.getByRole("menuitem", { name: "Delete the case …" }).click();
  const dialog = page.getByRole("dialog", { name: "Delete this case" });
  await dialog.getByLabel("Name of the case").fill("Practice");
  await expect(dialog.getByRole("button", { name: "Delete the case" })).toBeDisabled();
  await audit(page);
  await dialog.getByLabel("Name of the case").fill("Practice case");
  await dialog.getByRole("button", { name: "Delete the case" }).click();
  await expect(page.getByRole("heading", { name: "Cases" })).toBeVisible();
  expect((await request.get(`/api/v1/cases/${id}`)).status()).toBe(404);
});
