import { readFile } from "node:fs/promises";
import type { Page } from "@playwright/test";
import { audit, expect, headline, openCase, test } from "./screens";

/** Sets when old drives may be released, as the lead does. */
async function setRule(page: Page, starts: string, days: string) {
  await page.goto("/settings");
  const rule = page.getByRole("region", { name: "Release of old drives" });
  await rule.getByLabel("Cold starts from the clone").fill(starts);
  await rule.getByLabel("On how many days").fill(days);
  await rule.getByRole("button", { name: "Save the rule" }).click();
  await expect(rule.getByRole("button", { name: "Save the rule" })).toBeDisabled();
}

async function download(page: Page, name: string) {
  const waiting = page.waitForEvent("download");
  await page.getByRole("link", { name, exact: true }).click();
  return readFile(await (await waiting).path());
}

test("a whole case, from Prepare to the old drive's release and the report, and to another bench", async ({
  page,
}) => {
  await setRule(page, "2", "1");
  await openCase(page, "Booking office desktop");
  await page.getByRole("link", { name: "Prepare", exact: true }).click();
  await expect(page.getByRole("region", { name: "The four answers" })).toBeVisible();
  await page.getByRole("link", { name: "Start check" }).click();
  await expect(headline(page)).toContainText("no partition of the clone is marked active");

  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await step.getByRole("button", { name: "Done" }).click();
  await expect(page.getByRole("heading", { name: /All steps are done/ })).toBeVisible();

  await page.getByRole("link", { name: "First start" }).click();
  const expected = await page
    .getByText(/^The clone must show/)
    .locator("xpath=following-sibling::*[1]")
    .innerText();
  const id = /identifier ([0-9A-F]{8})/.exec(expected)![1]!;
  const seen = page.getByRole("region", { name: "What was seen" });
  await seen.getByLabel("What the command answered").fill("nothing that tells a disk");
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(seen.getByRole("alert")).toContainText("expected what one of the commands prints");
  await seen
    .getByLabel("What the command answered")
    .fill(`Number         : 0\nSize           : 500107862016\nPartitionStyle : MBR\nSignature      : ${parseInt(id, 16)}\n`);
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(page.getByRole("region", { name: "Proof" })).toContainText("Started, proved");

  await page.getByRole("link", { name: "Hand-over", exact: true }).first().click();
  const stands = page.getByRole("region", { name: "Where it stands" });
  await expect(stands).toContainText("One good start of two.");
  await expect(stands).toContainText("Still wanted: one cold start");
  const old = page.getByRole("region", { name: "The old drive" });
  await expect(old.getByRole("button", { name: "Wipe it …" })).toBeDisabled();

  const starts = page.getByRole("region", { name: "Starts" });
  await starts.getByRole("button", { name: "Record a start" }).click();
  await starts.getByLabel("Or the disk's identifier").fill(id);
  await starts.getByLabel("Started").click();
  await page.getByRole("option", { name: "Warm, a restart" }).click();
  await starts.getByRole("button", { name: "Record the start" }).click();
  await expect(starts.getByRole("button", { name: "All 2 starts" })).toBeVisible();
  await expect(stands).toContainText("One good start of two.");
  await starts.getByLabel("Started").click();
  await page.getByRole("option", { name: "Cold, from power-off" }).click();
  await starts.getByLabel("Or the disk's identifier").fill(id);
  await starts.getByRole("button", { name: "Record the start" }).click();
  await expect(stands).toContainText("Two good starts.");
  await starts.getByRole("button", { name: "All 3 starts" }).click();
  await expect(starts.getByRole("table")).toContainText("only cold starts do");

  const looks = page.getByRole("region", { name: "What to look at in the running system" });
  await looks.getByLabel("Paste what the commands answered").fill("hello");
  await looks.getByRole("button", { name: "Judge it" }).click();
  await expect(looks.getByRole("alert")).toContainText("nothing of this was recognised");
  await looks
    .getByLabel("Paste what the commands answered")
    .fill("Name          : Windows\nLicenseStatus : 5\n");
  await looks.getByRole("button", { name: "Judge it" }).click();
  await expect(looks).toContainText("Windows is not activated");
  await looks
    .getByLabel("Paste what the commands answered")
    .fill("Name          : Windows\nLicenseStatus : 1\n");
  await looks.getByRole("button", { name: "Judge it" }).click();
  await expect(looks).toContainText("Windows is activated");
  for (const key of ["Drive letters as before", "partitions, as the clone has", "Programs and files are there"]) {
    const line = looks.getByRole("listitem").filter({ hasText: key });
    await line.getByRole("button", { name: /^How to look/ }).click();
    await line.getByRole("button", { name: "I looked: it is right" }).click();
    await expect(line).toContainText("seen, Sunniva");
  }
  await expect(stands).toContainText("The old drive may be released.");

  const times = page.getByRole("region", { name: "From power-on to the desktop" });
  await times.getByLabel("31 s, 1:05, or the record pasted").fill("9,5 s");
  await times.getByRole("button", { name: "Keep" }).click();
  await expect(times).toContainText("Told: clone 9.5 s");
  await times.getByLabel("With").click();
  await page.getByRole("option", { name: "original" }).click();
  await times.getByLabel("31 s, 1:05, or the record pasted").fill("1:05");
  await times.getByRole("button", { name: "Keep" }).click();
  await expect(times).toContainText("65 s");

  await old.getByRole("button", { name: "Wipe it …" }).click();
  await expect(old.getByRole("alert")).toContainText("image or copy of what is on it");
  await old.getByRole("button", { name: "Keep it …" }).click();
  await old.getByLabel("Where it lies").fill("drawer 3");
  await old.getByLabel(/There is an image/).check();
  await old.getByRole("button", { name: "Keep this" }).click();
  await expect(old).toContainText("It lies unplugged, in drawer 3");
  await old.getByRole("button", { name: "Wipe it …" }).click();
  await expect(old).toContainText("nothing brings it back");
  await expect(old.locator("pre").nth(1)).toContainText("lsblk -nro MOUNTPOINT");
  await old.getByRole("button", { name: "In the Windows on the clone" }).click();
  await expect(old.getByRole("link", { name: "wipe-the-old-drive.cmd" })).toBeVisible();
  await expect(old.locator("pre").last()).toContainText("clean all");
  await old.getByRole("button", { name: "It is wiped" }).click();
  await expect(stands).toContainText("the old drive was wiped");

  expect((await download(page, "PDF")).subarray(0, 5).toString()).toBe("%PDF-");
  const words = (await download(page, "Markdown")).toString();
  expect(words).toContain("**The machine starts from its new drive.**");
  expect(words).toContain("With the old drive a start took 65 s");
  expect(JSON.parse((await download(page, "JSON")).toString())).toMatchObject({
    version: 1,
    result: { headline: "The machine starts from its new drive." },
  });
  const parcel = await download(page, "The whole case");
  await page.goto("/cases");
  await expect(page.getByRole("row", { name: /Booking office desktop/ })).toContainText("released");
  const field = page.locator('input[type="file"]');
  await field.setInputFiles({ name: "no.zip", mimeType: "application/zip", buffer: Buffer.from("no case") });
  await expect(page.getByRole("alert")).toContainText("no archive (zip)");
  await field.setInputFiles({ name: "case.zip", mimeType: "application/zip", buffer: parcel });
  await expect(headline(page)).toContainText("no partition of the clone is marked active");
  await page.getByRole("link", { name: "Hand-over", exact: true }).click();
  await expect(page.getByRole("region", { name: "Where it stands" })).toContainText("the old drive was wiped");
  // The imported case goes again, so that the demo world is as it was.
  await page.getByRole("button", { name: "Case …" }).click();
  await page.getByRole("menuitem", { name: /Delete/ }).click();
  await page.getByLabel(/name/i).last().fill("Booking office desktop");
  await page.getByRole("button", { name: /^Delete/ }).click();
  await expect(page.getByRole("heading", { name: "Cases" })).toBeVisible();
  await setRule(page, "5", "3");
});

test("a recovery partition with a letter loses it by commands that carry this machine's numbers", async ({
  page,
}) => {
  await openCase(page, "Harbour-master's desktop");
  await page.keyboard.press("h");
  const looks = page.getByRole("region", { name: "What to look at in the running system" });
  const line = looks.getByRole("listitem").filter({ hasText: "has the letter E" });
  await line.getByRole("button", { name: /^How to look/ }).click();
  await expect(line).toContainText("take-the-letter-off.cmd");
  await expect(line).toContainText("select partition");
  await line.getByText("How to put the saved sectors back").click();
  await expect(line).toContainText("put-back before-hide-recovery-");
  await expect(page.getByRole("region", { name: "Where it stands" })).toContainText(
    "the recovery environment switched on",
  );
});

test("what other cases of a model say is offered, with where it comes from", async ({ page }) => {
  await page.goto("/cases");
  // Another machine of the model, of whose firmware a person has told.
  const spare = await page.evaluate(async () => {
    const answer = await fetch("/api/v1/cases", {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify({
        title: "Spare engine-log computer",
        machine: "Brisling E1, stores",
        firmware: { choices: { usesBackupGPT: true } },
      }),
    });
    return answer.status;
  });
  expect(spare).toBe(201);
  await openCase(page, "Engine-log computer, ferry Guillemot");
  await expect(page.getByRole("region", { name: "What would settle it" })).toBeVisible();
  const known = page.getByRole("region", { name: "What is known of the model" });
  await expect(known).toContainText("Other cases of the Brisling E1 say: Uses the backup partition table: yes");
  await known.getByRole("link", { name: "Spare engine-log computer" }).click();
  await expect(page.getByRole("heading", { name: /Spare engine-log computer/ })).toBeVisible();
  await page.goBack();
  await known.getByRole("button", { name: "Take it over" }).click();
  await expect(known).toHaveCount(0);
  await page.getByRole("link", { name: "Evidence", exact: true }).click();
  await page.getByRole("tab", { name: "Pieces of evidence" }).click();
  const told = page.getByRole("row", { name: /Uses the backup partition table/ });
  await expect(told).toContainText("as other cases of the Brisling E1 say");
  await told.getByRole("button", { name: /Withdraw/ }).click();
  await expect(told).toHaveCount(0);
});

test("the figures lead to their cases, and cases to those that are alike", async ({ page }) => {
  await page.goto("/figures");
  await page.getByRole("link", { name: "Quayside K2" }).click();
  await expect(page.getByText("Only cases on the machine Quayside K2")).toBeVisible();
  await expect(page.getByRole("row", { name: /Quayside K2/ }).first()).toBeVisible();
  await expect(page.getByRole("row", { name: /Fenmark/ })).toHaveCount(0);
  await page.getByRole("button", { name: "Show all" }).click();
  await expect(page.getByRole("row", { name: /Fenmark/ }).first()).toBeVisible();
  await page.getByLabel("Find a case").fill("bootmgfw.efi tide office");
  await expect(page.getByRole("row", { name: /Tide office/ })).toBeVisible();
  await openCase(page, "Purser's laptop");
  await page.getByRole("link", { name: "cause" }).click();
  await expect(page.getByText("Only cases that stopped at the stage configuration")).toBeVisible();
});

for (const theme of ["light", "dark"] as const) {
  test(`Hand-over and Figures pass the accessibility audit in the ${theme} theme`, async ({ page }) => {
    await page.emulateMedia({ colorScheme: theme });
    await openCase(page, "Harbour-master's desktop");
    await page.getByRole("link", { name: "Hand-over", exact: true }).first().click();
    await expect(page.getByRole("heading", { name: /Three good starts of five/ })).toBeVisible();
    await page.getByRole("button", { name: "Record a start" }).click();
    await page.getByRole("button", { name: "Records" }).click();
    await page.getByRole("button", { name: "Keep it …" }).click();
    await audit(page);
    await page.goto("/figures");
    await expect(page.getByRole("region", { name: "Where clones stopped" })).toBeVisible();
    await audit(page);
  });
}
