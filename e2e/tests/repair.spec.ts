import { audit, expect, openCase, test } from "./screens";

test("a failing kiosk is repaired step by step, from the screen alone", async ({ page }) => {
  await openCase(page, "Ticket kiosk, North Pier");
  await page.getByRole("link", { name: "Repair" }).click();
  const plan = page.getByRole("list", { name: "Steps of the plan" });
  await expect(plan.getByRole("listitem")).toHaveCount(3);
  const step = page.getByRole("region", { name: "The step" });
  await expect(step).toContainText("Create an EFI system partition");
  await expect(step).toContainText("Ostra N3 · 1 TB · 931.5 GiB");
  await expect(step.locator("pre").first()).toContainText("uniqueid disk");
  await expect(step.getByRole("button", { name: "Done" })).toBeDisabled();
  await step.getByLabel("Your name").fill("Ada");
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
  });
}
