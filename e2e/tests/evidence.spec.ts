import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { audit, expect, headline, openCase, test } from "./screens";

const folder = mkdtempSync(join(tmpdir(), "latchkey-listings-"));
test.afterAll(() => rmSync(folder, { recursive: true, force: true }));

/** What Debian's sfdisk says of a disk that it has just written, 500 GB sparse. */
function dump(script: string): string {
  const path = join(folder, "disk.img");
  writeFileSync(path, "");
  truncateSync(path, 976_773_168 * 512);
  execFileSync("/usr/sbin/sfdisk", ["--quiet", path], { input: script });
  return execFileSync("/usr/sbin/sfdisk", ["--dump", path], { encoding: "utf8" });
}

test("a case from listings alone: read, given to a disk, traced to its line, withdrawn", async ({ page }) => {
  await page.goto("/cases");
  await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
  await page.keyboard.press("n");
  await page
    .getByRole("dialog", { name: "New case" })
    .getByRole("textbox", { name: "Case" })
    .fill("From listings");
  await page.keyboard.press("Enter");
  await page.getByRole("link", { name: "Evidence", exact: true }).click();
  await page.getByRole("tab", { name: "Pieces of evidence" }).click();
  const add = page.getByRole("region", { name: "Add a listing" });

  await add.getByRole("textbox", { name: "Output of a command" }).fill("Dear colleague, the disk is broken.");
  await add.getByRole("button", { name: "Read it" }).click();
  await expect(add).toContainText("none of the listings that are known");

  const text = dump("label: gpt\nsize=100MiB, type=U\ntype=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n");
  await add
    .getByRole("textbox", { name: "Output of a command" })
    .fill("root@rescue:~# sfdisk --dump disk.img\n" + text);
  await add.getByRole("button", { name: "Read it" }).click();
  await expect(add.getByLabel("Recognised as")).toContainText("sfdisk --dump");
  await expect(add).toContainText("GPT · 2 partitions");
  await expect(add).not.toContainText("not understood");
  await audit(page);
  await add.getByLabel("disk.img is").click();
  await page.getByRole("option", { name: "the clone" }).click();
  await add.getByRole("button", { name: "Add to the evidence" }).click();
  const pieces = page.getByRole("region", { name: "Every piece of evidence" });
  await expect(pieces).toContainText("sfdisk --dump");

  await page.getByRole("tab", { name: "What is known" }).click();
  const clone = page.getByRole("region", { name: "Evidence of the clone" });
  await expect(clone).toContainText("EFI system partition");
  await clone.getByRole("button", { name: "Where it comes from: Partition style of the clone" }).click();
  const drawer = page.getByRole("dialog", { name: "Partition style" });
  await expect(drawer).toContainText("read from a listing");
  await drawer.getByRole("button", { name: "Show the line" }).click();
  await expect(page.getByRole("dialog", { name: "sfdisk --dump" })).toContainText("label: gpt");
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");

  await page.getByRole("tab", { name: "Pieces of evidence" }).click();
  await pieces.getByRole("button", { name: /^Withdraw/ }).click();
  await expect(pieces).toContainText("withdrawn");
  await page.getByRole("tab", { name: "What is known" }).click();
  await expect(clone).not.toContainText("500 GB · 465.8 GiB");
});

test("a disk read aloud from a screen", async ({ page }) => {
  await page.goto("/cases");
  await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
  await page.keyboard.press("n");
  await page
    .getByRole("dialog", { name: "New case" })
    .getByRole("textbox", { name: "Case" })
    .fill("Read aloud");
  await page.keyboard.press("Enter");
  await page.getByRole("link", { name: "Evidence", exact: true }).click();
  const clone = page.getByRole("region", { name: "Evidence of the clone" });
  await clone.getByRole("button", { name: "Tell from a screen" }).click();
  const form = clone.getByRole("form", { name: "What a screen shows of the clone" });
  await form.getByLabel("Capacity").fill("much");
  await form.getByRole("button", { name: "Save what the screen shows" }).click();
  await expect(form).toContainText("is no size");
  await form.getByLabel("Capacity").fill("232 GB");
  await form.getByLabel("Partition style").click();
  await page.getByRole("option", { name: "GPT" }).click();
  await form.getByLabel("1 is for").click();
  await page.getByRole("option", { name: "Operating system" }).click();
  await form.getByLabel("Size").fill("231 GB");
  await form.getByLabel("File system").fill("NTFS");
  await form.getByRole("button", { name: "Save what the screen shows" }).click();
  await expect(clone).toContainText("about 250 GB · 232.9 GiB");
  await expect(clone).toContainText("231 GiB");
  const original = page.getByRole("region", { name: "Evidence of the original" });
  await original.getByRole("button", { name: "Tell from a screen" }).click();
  const same = original.getByRole("form", { name: "What a screen shows of the original" });
  await same.getByRole("button", { name: "The same as the clone: then only what differs" }).click();
  await same.getByLabel("Capacity").fill("465 GB");
  await same.getByRole("button", { name: "Save what the screen shows" }).click();
  await expect(original).toContainText("about 500 GB · 465.8 GiB");
  await expect(original).toContainText("231 GiB");
});

test("contradictions are shown with both sources", async ({ page }) => {
  await openCase(page, "Chart table computer, ferry Guillemot");
  await page.getByRole("link", { name: "Evidence" }).click();
  await page.getByRole("button", { name: "Both sources: clone, capacity" }).click();
  const drawer = page.getByRole("dialog", { name: "Contradiction: capacity" });
  await expect(drawer).toContainText("read from the disk");
  await expect(drawer).toContainText("told by a person");
});

test("what each copy of the partition tables says, and what differs", async ({ page }) => {
  await openCase(page, "Engine-log computer, ferry Guillemot");
  await page.getByRole("link", { name: "Evidence" }).click();
  await page.getByRole("tab", { name: "Partition tables" }).click();
  const clone = page.getByRole("region", { name: "Tables of the clone" });
  await expect(clone).toContainText("checksum does not match");
  await expect(clone).toContainText("Write the primary partition table anew from its backup");
  await expect(clone).toContainText("not the primary's");
  await expect(page.getByRole("region", { name: "Tables of the original" })).toContainText("nothing is wrong");
  await audit(page);
  await clone.getByRole("button", { name: /Show where it stands/ }).click();
  await expect(page.getByRole("dialog")).toContainText("81F73E76");
});

test("who refers to what, down to the bytes, and as a file", async ({ page }) => {
  await openCase(page, "Purser's laptop");
  await expect(headline(page)).toContainText("Stops at the configuration");
  await page.getByRole("link", { name: "Evidence" }).click();
  await page.getByRole("tab", { name: "Who refers to what" }).click();
  const table = page.getByRole("region", { name: "References" });
  await expect(table).toContainText("only on the other disk");
  await audit(page);
  await table
    .getByRole("button", { name: /Boot Loader, osdevice/ })
    .last()
    .click();
  const drawer = page.getByRole("dialog", { name: /osdevice/ });
  await expect(drawer).toContainText("partition GUID");
  await page.keyboard.press("Escape");
  const saving = page.waitForEvent("download");
  await page.getByRole("link", { name: "Save as CSV" }).click();
  expect((await saving).suggestedFilename()).toMatch(/references\.csv$/);
});

test("the capture command is handed out with what to do", async ({ page }) => {
  await openCase(page, "Timetable display, Long Quay");
  await page.getByRole("link", { name: "Evidence" }).click();
  await page.getByRole("tab", { name: "Pieces of evidence" }).click();
  const help = page.getByRole("region", { name: "Take a capture" });
  await help.getByLabel("Situation").click();
  await page.getByRole("option", { name: "From another live Linux" }).click();
  await expect(help).toContainText("Start a live Linux");
  const saving = page.waitForEvent("download");
  await help.getByRole("link", { name: /64-bit PC/ }).click();
  const file = await (await saving).path();
  execFileSync("chmod", ["+x", file]);
  const image = join(folder, "empty.img");
  writeFileSync(image, Buffer.alloc(1 << 20));
  const out = execFileSync(file, [image, "-o", join(folder, "empty.lkcap")], { encoding: "utf8" });
  expect(out).toContain("sectors of 512 bytes");
});
