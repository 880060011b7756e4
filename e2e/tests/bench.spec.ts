import type { Page } from "@playwright/test";
import { audit, expect, headline, openCase, test } from "./screens";

async function take(page: Page, title: string, disk: string) {
  await page.getByLabel("Take a disk from").click();
  await page.getByRole("option", { name: title }).click();
  await page.getByRole("button", { name: `Put its ${disk} on the bench` }).click();
}

test("a machine from two cases' disks is switched on, and its attempts are watched one by one", async ({
  page,
}) => {
  await page.goto("/bench");
  await expect(page.getByText("An empty bench")).toBeVisible();
  await take(page, "Ticket kiosk, North Pier", "clone");
  await take(page, "Harbour-master's desktop", "original");
  await page.getByRole("button", { name: "Switch on" }).click();
  const attempts = page.getByRole("list", { name: "Attempts" }).getByRole("listitem");
  await expect(attempts.first()).toContainText("has no EFI system partition");
  await page.getByRole("button", { name: "To the end" }).click();
  await expect(attempts).toHaveCount(2);
  await expect(page.getByText("Depends on one fact that is not known.")).toBeVisible();
  await page.getByRole("button", { name: /^Yes: Does the firmware try the fallback/ }).click();
  await expect(page.getByRole("heading", { name: /Starts the original/ })).toBeVisible();
  await page.getByRole("checkbox", { name: "Harbour-master's desktop, original is attached" }).click();
  await page.getByRole("button", { name: "Switch on" }).click();
  await expect(page.getByRole("heading", { name: /Stops at the boot partition/ })).toBeVisible();
});

test("a message is looked up by a code, and by words", async ({ page }) => {
  await page.goto("/lookup");
  await page.getByRole("textbox").fill("c0000225");
  await expect(page.getByRole("article").first()).toContainText("0xc000000e");
  await page.getByRole("textbox").fill("bicycle");
  await expect(page.getByText(/None of the known messages/)).toBeVisible();
  await page.getByRole("tab", { name: "Partition types" }).click();
  await page.getByRole("textbox").fill("efi system");
  await expect(page.getByRole("row")).toHaveCount(3);
});

test("what the screen said is held against the computation", async ({ page }) => {
  await openCase(page, "Ticket kiosk, East Pier");
  const said = page.getByRole("region", { name: "What the screen said" });
  await said.getByLabel("What the screen said").fill("BOOTMGR is missing");
  await said.getByRole("button").click();
  await expect(said).toContainText("Contradiction");
  await said.getByLabel("What the screen said").fill("no bootable device");
  await said.getByRole("button").click();
  await expect(said).toContainText("The computation agrees with what the screen said");
  await page.reload();
  await expect(said.getByLabel("What the screen said")).toHaveValue("no bootable device");
});

test("the machine tries one thing after the other, and a moved entry changes it at once", async ({
  page,
}) => {
  await openCase(page, "Purser's laptop");
  const tries = page.getByRole("region", { name: "What the machine tries" });
  await expect(tries.getByRole("listitem").first()).toContainText(
    "Entry 0001 “Windows Boot Manager” → nothing",
  );
  await tries.getByRole("button").first().click();
  const detail = page.getByRole("dialog", { name: /^Attempt 1/ });
  await expect(detail).toContainText("leads to no attached disk");
  await page.keyboard.press("Escape");
  await page.getByRole("tab", { name: "One drive, or both" }).click();
  const runs = page.getByRole("region", { name: "The start with one drive or both" });
  await expect(runs.getByRole("region", { name: "original alone" })).toContainText(
    "the clone is not attached",
  );
  await page.getByRole("button", { name: "More…" }).click();
  await page.getByRole("checkbox", { name: "Entry 0001 is in the order" }).click();
  await page.getByRole("button", { name: "Look at the pins" }).click();
  await expect(tries.getByRole("listitem")).toHaveCount(1);
  await expect(headline(page)).toHaveText(/Stops at the configuration/);
  await expect(page.getByText("supposed machine, not saved")).toBeVisible();
});

for (const theme of ["light", "dark"] as const) {
  test(`Bench and Look-up pass the accessibility audit in the ${theme} theme`, async ({ page }) => {
    await page.emulateMedia({ colorScheme: theme });
    await page.goto("/bench");
    await take(page, "Ticket kiosk, North Pier", "clone");
    await page.getByRole("button", { name: "Switch on" }).click();
    await expect(page.getByRole("list", { name: "Attempts" })).toBeVisible();
    await audit(page);
    await page.goto("/lookup");
    await expect(page.getByRole("article").first()).toBeVisible();
    await audit(page);
    await page.goto("/lookup?view=types");
    await expect(page.getByRole("table")).toBeVisible();
    await audit(page);
  });
}
