import { readFileSync } from "node:fs";
import { archive } from "./archive";
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
  await step.getByRole("button", { name: "It was not done after all" }).click();
  await expect(step).toContainText("Create an EFI system partition");
  await expect(step).toContainText("Ostra N3 · 1 TB · 931.5 GiB");
  await expect(step.locator("pre").first()).toContainText("uniqueid disk");
  await step.getByLabel("What it answered").fill("DiskPart succeeded in creating the specified partition.");
  await step.getByRole("button", { name: "Done" }).click();
  await expect(step).toContainText("Put Windows' boot files");
  await expect(page.getByRole("region", { name: "What was done" })).toContainText("Sunniva");
  await page.reload();
  await expect(plan.getByRole("listitem").first()).toContainText("done");
  await step.getByRole("button", { name: "Done" }).click();
  await expect(step).toContainText("Have Windows load its driver stornvme at start-up");
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
  await seen.getByLabel("Or the disk's identifier").fill("1234ABCD");
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(proof).toContainText("of neither disk of the case");
  await seen.getByLabel("Or the disk's identifier").fill("5A17C0DE");
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

test("what is typed stays while the server does not answer", async ({ page }) => {
  await page.clock.install();
  await openCase(page, "Lounge display, ferry Sandpiper");
  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await step.getByLabel("What it answered").fill("typed with care");
  await page.route("**/plan*", (route) =>
    route.fulfill({ status: 503, json: { status: 503, detail: "The database does not answer." } }),
  );
  await page.clock.runFor(60_000);
  await expect(page.getByRole("alert")).toContainText("The database does not answer.");
  await expect(step.getByLabel("What it answered")).toHaveValue("typed with care");
  await page.unroute("**/plan*");
  await page.clock.runFor(60_000);
  await expect(page.getByRole("alert")).toHaveCount(0);
  await expect(step.getByLabel("What it answered")).toHaveValue("typed with care");
});

test("a failed step leads to another way, and toolboxes change the plan", async ({ page }) => {
  await openCase(page, "Lounge display, ferry Sandpiper");
  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await expect(step).toContainText("name the clone's own file systems");
  await expect(page.getByRole("region", { name: "Another way" })).toContainText("Install GRUB anew");
  await expect(page.getByRole("link", { name: "Shell script" })).toBeVisible();
  await step.getByRole("button", { name: "Failed: another way" }).click();
  await expect(step).toContainText("Install GRUB anew");
  await page.getByRole("checkbox", { name: "Live Linux" }).click();
  await expect(step).toContainText("Put the old drive back");
  await page.getByRole("checkbox", { name: "Old drive put back" }).click();
  await expect(page.getByRole("heading", { name: "There is no plan." })).toBeVisible();
});

test("a machine that cannot be repaired says why, and what remains", async ({ page }) => {
  await openCase(page, "Crew mess computer, ferry Guillemot");
  await page.getByRole("link", { name: "Repair" }).click();
  const plan = page.getByRole("region", { name: "The plan" });
  await expect(plan).toContainText("There is no plan.");
  await expect(plan).toContainText("an adapter for a bus that it starts from");
});

test("a clone that is cut off is copied again, by the space in use", async ({ page }) => {
  await openCase(page, "Camera recorder, South Pier");
  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await expect(step).toContainText("Copy the original onto the clone's drive again");
  await expect(step).toContainText("a risk to the data");
  await expect(step).toContainText("by the space in use");
});

test("a step is shown by each toolbox, and says how to put back what it overwrote", async ({ page }) => {
  await openCase(page, "Booking office desktop");
  await page.getByRole("link", { name: "Repair" }).click();
  const step = page.getByRole("region", { name: "The step" });
  await expect(step).toContainText("Save first: Sector 0");
  await expect(step).toContainText("list disk");
  await step.getByRole("button", { name: "Live Linux" }).click();
  await expect(step).toContainText("sfdisk --no-reread --force --activate");
  await step.getByText("How to put the saved sectors back").click();
  await expect(step.locator("details pre").last()).toBeVisible();
});

test("a plan is put into a file for the stick, which names disks and steps and no command", async ({
  page,
}) => {
  await openCase(page, "Lounge display, ferry Sandpiper");
  await page.getByRole("link", { name: "Repair" }).click();
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Plan for the stick" }).click();
  const file = await download;
  expect(file.suggestedFilename()).toBe("LATCHKEY-PLAN.json");
  const text = readFileSync(await file.path(), "utf8");
  const plan = JSON.parse(text) as { drives: { role: string; bytes: number }[]; steps: { key: string }[] };
  // Which of its two ways the case goes is another test's to change.
  expect(plan.steps.map((s) => s.key).join()).toMatch(/^linux-(names|files)$/);
  expect(plan.drives.some((d) => d.role === "clone" && d.bytes > 0)).toBe(true);
  expect(text).not.toContain("mkdir");
});

test("the plan is printed on one page, without the frame", async ({ page }) => {
  await openCase(page, "Purser's laptop");
  await page.getByRole("link", { name: "Repair" }).click();
  await expect(page.getByRole("region", { name: "The step" })).toBeVisible();
  const pdf = await page.pdf({ format: "A4" });
  expect(pdf.toString("latin1").match(/\/Type \/Page\b/g)).toHaveLength(1);
  await page.emulateMedia({ media: "print" });
  await expect(page.getByRole("heading", { name: /^☐ 1\. Point the boot configuration/ })).toBeVisible();
  await expect(page.getByRole("button", { name: "Done" })).toBeHidden();
});

test("a first start is proved by a capture that the running system took", async ({ page }) => {
  await openCase(page, "Wharf scales");
  await page.getByRole("link", { name: "First start" }).click();
  const seen = page.getByRole("region", { name: "What was seen" });
  const proof = page.getByRole("region", { name: "Proof" });
  const expected = await page
    .getByText(/^The clone must show/)
    .locator("xpath=following-sibling::*[1]")
    .innerText();
  const id = /identifier ([0-9A-F]{8})/.exec(expected)![1]!;
  const sector = Buffer.alloc(512);
  sector.writeUInt32LE(parseInt(id, 16), 440);
  sector.writeUInt16LE(0xaa55, 510);
  const capture = (running: boolean) =>
    archive({
      "manifest.json": Buffer.from(
        JSON.stringify({
          format: "latchkey capture",
          version: 1,
          capacity: 250059350016,
          logicalSectorSize: 512,
          source: "sda",
          running,
          takenAt: new Date().toISOString(),
          extents: [{ offset: 0, length: 512 }],
        }),
      ),
      "sectors.bin": sector,
    });
  const file = seen.locator('input[type="file"]');
  await file.setInputFiles({ name: "clone.lkcap", mimeType: "application/zip", buffer: capture(false) });
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(seen).toContainText("take the capture there");
  await file.setInputFiles({ name: "clone.lkcap", mimeType: "application/zip", buffer: capture(true) });
  await seen.getByRole("button", { name: "Which disk was it?" }).click();
  await expect(proof).toContainText("By a capture that the running system took of its own disk.");
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
