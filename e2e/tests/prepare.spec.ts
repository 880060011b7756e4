import { audit, expect, openCase, test } from "./screens";

test("before the copy: four answers, a layout by hand, a plan that is kept", async ({ page }) => {
  await openCase(page, "Slip office desktop");
  await page.getByRole("link", { name: "Prepare", exact: true }).click();
  const answers = page.getByRole("region", { name: "The four answers" });
  await expect(answers).toContainText("Yes, made smaller");
  await expect(answers).toContainText("Copy by used blocks, all partitions: the copy starts.");
  await expect(answers).toContainText("Check the file system of partition 3");
  await page.getByText("Every partition: in use").click();
  await expect(page.getByRole("region", { name: "Sizes by strategy" })).toContainText("kept (does not fit)");
  await audit(page);
  await page.emulateMedia({ colorScheme: "dark" });
  await audit(page);
  await page.emulateMedia({ colorScheme: "light" });

  const layout = page.getByRole("region", { name: "Layout" });
  await expect(layout.getByRole("button", { name: /keep sizes\s*, does not fit/ })).toBeVisible();
  await layout.getByRole("button", { name: "by hand" }).click();
  const grip = layout.getByRole("slider");
  await expect(grip).toHaveAttribute("aria-valuenow", "222");
  await grip.focus();
  await page.keyboard.press("PageUp");
  await expect(grip).toHaveAttribute("aria-valuenow", "212");
  await layout.getByLabel("Partition 3, GiB").fill("60");
  await page.keyboard.press("Enter");
  await expect(layout).toContainText("Partition 3 needs at least");
  await layout.getByLabel("Partition 3, GiB").fill("180,5");
  await page.keyboard.press("Enter");
  await expect(layout).toContainText("Partition 4 moves.");
  await page.getByRole("button", { name: "Keep this plan" }).click();
  await expect(page.getByRole("button", { name: "Keep this plan" })).toHaveCount(0);
  await page.reload();
  await expect(layout.getByLabel("Partition 3, GiB")).toHaveValue("180.5");

  const ways = page.getByRole("region", { name: "Ways to copy" });
  await expect(ways.getByRole("row", { name: /main partition alone/ })).toContainText(
    "stops at the boot partition",
  );
  await expect(ways.getByRole("row", { name: /every sector/ })).toContainText("Does not fit");

  const ready = page.getByRole("region", { name: "Ready?" });
  await ready.getByRole("button", { name: "How: Check the file system of partition 3" }).click();
  await expect(ready).toContainText("chkdsk C: /f");
  await ready.getByRole("checkbox", { name: "Check the file system of partition 3" }).click();
  await expect(answers).toContainText("Switch fast start-up off");

  const pdf = await page.pdf({ format: "A4" });
  expect(pdf.toString("latin1").match(/\/Type \/Page\b/g)).toHaveLength(1);
  await page.emulateMedia({ media: "print" });
  await expect(page.getByRole("region", { name: "Card of the original" })).toBeVisible();
  await expect(layout).toBeHidden();
});

test("the countdown, and what is no reading of it", async ({ page }) => {
  await openCase(page, "Lock keeper's desktop");
  await page.getByRole("link", { name: "Prepare", exact: true }).click();
  await expect(page.getByRole("region", { name: "The four answers" })).toContainText("20 sectors smaller");
  const copying = page.getByRole("region", { name: "While it is copied" });
  const shows = copying.getByLabel("What its program shows now");
  await shows.fill("nothing");
  await copying.getByRole("button", { name: "Count" }).click();
  await expect(copying).toContainText("Expected perCent");
  await shows.fill("12 of 90 GB");
  await copying.getByRole("button", { name: "Count" }).click();
  await expect(copying).toContainText("One reading tells no rate");
  await shows.fill("40 %");
  await copying.getByRole("button", { name: "Count" }).click();
  await expect(copying).toContainText("By the measured rate");
  await copying.getByRole("button", { name: "Begin anew" }).click();
  await expect(copying).toContainText("Nothing was read off");
});

test("a capacity that is typed, and one that is none", async ({ page }) => {
  await openCase(page, "Ballast log computer");
  await page.getByRole("link", { name: "Prepare", exact: true }).click();
  const answers = page.getByRole("region", { name: "The four answers" });
  await expect(answers).toContainText("2.84 GiB must go");
  const path = page.getByRole("region", { name: "The path of the copy" });
  await path.getByLabel("The new drive's capacity").fill("some");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("alert")).toContainText("is no size");
  await path.getByLabel("The new drive's capacity").fill("480 GB");
  await page.keyboard.press("Enter");
  await expect(answers).toContainText("Yes, made smaller");
  await expect(answers).toContainText("the copy starts");
});
