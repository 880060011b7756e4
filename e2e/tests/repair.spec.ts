import { audit, expect, openCase, test } from "./screens";

test("a failing kiosk is repaired step by step, from the screen alone", async ({ page }) => {
  await openCase(page, "Ticket kiosk, North Pier");
  await page.getByRole("link", { name: "Repair" }).click();
  const plan = page.getByRole("list", { name: "Steps of the plan" });
  await expect(plan.getByRole("listitem")).toHaveCount(4); // three steps, and how it stands now
  const step = page.getByRole("region", { name: "The step" });
  // The demo world left it in the middle: Marit has done the first step.
  await expect(page.getByRole("region", { name: "What was done" })).toContainText("Marit");
  await plan.getByRole("button").first().click();
  await step.getByLabel("Your name").fill("Ada");
  await step.getByRole("button", { name: "It was not done after all" }).click();
  await expect(step).toContainText("Create an EFI system partition");
  await expect(step).toContainText("Ostra N3 · 1 TB · 931.5 GiB");
  await expect(step.locator("pre").first()).toContainText("uniqueid disk");
  await step.getByLabel("What it answered").fill("DiskPart succeeded in creating the specified partition.");
  await step.getByRole("button", { name: "Done" }).click();
  await expect(step).toContainText("Put Windows' boot files");
  await expect(page.getByRole("region", { name: "What was done" })).toContainText("Ada");
  await page.reload();
  await expect(plan.getByRole("listitem").first()).toContainText("done");
  await step.getByRole("button", { name: "Done" }).click();
  await expect(step).toContainText("Start once in safe mode");
  await step.getByRole("button", { name: "Done" }).click();
  await expect(page.getByRole("heading", { name: /All steps are done/ })).toBeVisible();
});

test("a first start is proved by the disk's identifier, or leads back with what the screen said", async ({
  page,
}) => {
  await openCase(page, "Bridge laptop, ferry Sandpiper");
  await page.getByRole("link", { name: "First start" }).click();
  const seen = page.getByRole("region", { name: "What was seen" });
  const proof = page.getByRole("region", { name: "Proof" });
  await expect(proof).toContainText("Not proved yet");
  await seen.getByLabel("Your name").fill("Ada");
  await seen.getByLabel("Identifier of the disk it runs from").fill("1234ABCD");
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(proof).toContainText("of neither disk of the case");
  await seen.getByLabel("Identifier of the disk it runs from").fill("5A17C0DE");
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(proof).toContainText("Started, proved");
  await page.goto("/cases");
  await expect(page.getByRole("row", { name: /Bridge laptop/ })).toContainText("Started, proved");
  await openCase(page, "Bridge laptop, ferry Sandpiper");
  await page.getByRole("link", { name: "First start" }).click();
  await seen.getByLabel("What the screen said").fill("no bootable device");
  await seen.getByRole("button", { name: "Back to the start check with it" }).click();
  await expect(page.getByRole("region", { name: "What the screen said" })).toContainText(
    "The computation agrees",
  );
});

test("a failed step leads to another way, and toolboxes change the plan", async ({ page }) => {
  await openCase(page, "Lounge display, ferry Sandpiper");
  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await expect(step).toContainText("name the clone's own file systems");
  await expect(page.getByRole("region", { name: "Another way" })).toContainText("Install GRUB anew");
  await expect(page.getByRole("link", { name: "Shell script" })).toBeVisible();
  await step.getByLabel("Your name").fill("Bo");
  await step.getByRole("button", { name: "Failed: another way" }).click();
  await expect(step).toContainText("Install GRUB anew");
  await page.getByRole("checkbox", { name: "Live Linux" }).click();
  await expect(page.getByRole("heading", { name: "There is no plan." })).toBeVisible();
});

test("a disk that cannot be repaired says why, and what remains", async ({ page }) => {
  await openCase(page, "Camera recorder, South Pier");
  await page.getByRole("link", { name: "Repair" }).click();
  await expect(page.getByRole("region", { name: "The plan" })).toContainText("Copy again");
});

for (const theme of ["light", "dark"] as const) {
  test(`the Repair screen passes the accessibility audit in the ${theme} theme`, async ({ page }) => {
    await page.emulateMedia({ colorScheme: theme });
    await openCase(page, "Purser's laptop");
    await page.getByRole("link", { name: "Repair" }).click();
    await expect(page.getByRole("region", { name: "The step" })).toBeVisible();
    await audit(page);
    await page.getByRole("link", { name: "First start" }).click();
    await expect(page.getByRole("region", { name: "What was seen" })).toBeVisible();
    await audit(page);
  });
}
