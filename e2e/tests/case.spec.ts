import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, headline, test } from "./screens";

const folder = mkdtempSync(join(tmpdir(), "latchkey-files-"));
test.afterAll(() => rmSync(folder, { recursive: true, force: true }));

/** A disk written by Debian's sfdisk and mkfs.vfat, 48 MiB. */
function disk(name: string, script: string): string {
  const path = join(folder, name);
  writeFileSync(path, "");
  truncateSync(path, 48 << 20);
  execFileSync("/usr/sbin/sfdisk", ["--quiet", path], { input: script });
  return path;
}

function withBootPartition(name: string): string {
  const path = disk(name, "label: gpt\nsize=40MiB, type=U\n");
  execFileSync("/usr/sbin/mkfs.vfat", [
    "-F",
    "32",
    "-s",
    "1",
    "--offset",
    "2048",
    "-h",
    "2048",
    path,
    String(40 << 10),
  ]);
  return path;
}

test("a case of one's own, from two files to a reason", async ({ page }) => {
  await page.goto("/cases");
  await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
  await page.keyboard.press("n");
  const making = page.getByRole("dialog", { name: "New case" });
  await making.getByRole("textbox", { name: "Case" }).fill("Ticket kiosk, West Pier");
  await making.getByRole("textbox", { name: /^Machine/ }).fill("Quayside K2");
  await page.keyboard.press("Enter");
  await page.getByRole("link", { name: "Evidence", exact: true }).click();
  const original = page.getByRole("region", { name: "Evidence of the original" });
  const clone = page.getByRole("region", { name: "Evidence of the clone" });

  const boot = withBootPartition("original.img");
  await original.getByLabel("Capture, first part or whole image").setInputFiles(boot);
  await original.getByRole("button", { name: "Add to the original" }).click();
  await expect(original).toContainText("EFI system partition");
  await expect(original).toContainText("50 MB · 48 MiB");

  const only = disk("clone.img", "label: gpt\ntype=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n");
  await clone.getByLabel("Capture, first part or whole image").setInputFiles(only);
  await clone.getByRole("button", { name: "Add to the clone" }).click();
  await expect(clone).toContainText("Basic data");

  const facts = page.getByRole("form", { name: "Facts of the machine" });
  for (const [field, value] of [
    ["Firmware mode", "UEFI"],
    ["Architecture", "x64"],
    ["Secure boot", "No"],
    ["Tries the fallback loader on fixed disks", "Yes"],
    ["First in the boot order", "The clone"],
  ]) {
    await facts.getByRole("combobox", { name: field }).click();
    await page.getByRole("option", { name: value, exact: true }).click();
  }
  for (const [drive, attached] of [
    ["Original", "No"],
    ["Clone", "Yes"],
  ]) {
    await facts.getByRole("group", { name: drive }).getByRole("combobox", { name: "Attached" }).click();
    await page.getByRole("option", { name: attached, exact: true }).click();
  }
  await facts.getByRole("button", { name: "Save the facts" }).click();
  await expect(facts.getByRole("button", { name: "Save the facts" })).toBeDisabled();

  await page.keyboard.press("k");
  await expect(headline(page)).toHaveText(
    "Stops at the boot partition: the clone has no EFI system partition.",
  );
  const comparison = page.getByRole("region", { name: "Comparison of the two disks" });
  await expect(comparison).toContainText("blocks: the firmware has nothing to run");
  await page.keyboard.press("/");
  await expect(page.getByRole("textbox", { name: "Find a case" })).toBeFocused();
  await page.keyboard.type("west");
  await expect(page.getByRole("row")).toHaveCount(2);
  await expect(page.getByRole("row").nth(1)).toContainText("Stops at boot partition");
});

test("files that are no disk are refused with their reason", async ({ page, request }) => {
  const made = await request.post("/api/v1/cases", { data: { title: "Wrong files" } });
  await page.goto(`/cases/${(await made.json()).id}/evidence`);
  const clone = page.getByRole("region", { name: "Evidence of the clone" });
  const give = async (name: string, content: Buffer) => {
    await clone
      .getByLabel("Capture, first part or whole image")
      .setInputFiles({ name, mimeType: "application/octet-stream", buffer: content });
    await clone.getByRole("button", { name: "Add to the clone" }).click();
  };
  await give("letter.txt", Buffer.from("Dear harbour office,\n".repeat(60)));
  await expect(clone.getByRole("alert")).toContainText("not a disk: its beginning reads as text/plain");
  await give("empty.img", Buffer.alloc(0));
  await expect(clone.getByRole("alert")).toContainText("The file is empty");
  await give("zeros.img", Buffer.alloc(1 << 20));
  await expect(clone.getByRole("alert")).toContainText("nothing but zeros");
  await clone.getByRole("button", { name: "Take it all the same" }).click();
  await expect(clone).toContainText("No partition can be found");
});

test("the first part of a disk with its real capacity and its end", async ({ page, request }) => {
  const path = join(folder, "large.img");
  writeFileSync(path, "");
  truncateSync(path, 500_107_862_016);
  execFileSync("/usr/sbin/sfdisk", ["--quiet", path], { input: "label: gpt\nsize=100MiB, type=U\ntype=L\n" });
  const head = join(folder, "head.img");
  const tail = join(folder, "tail.img");
  execFileSync("sh", ["-c", `head -c 2M ${path} > ${head}; tail -c 1M ${path} > ${tail}`]);
  const made = await request.post("/api/v1/cases", { data: { title: "Two parts" } });
  await page.goto(`/cases/${(await made.json()).id}/evidence`);
  const original = page.getByRole("region", { name: "Evidence of the original" });
  await original.getByLabel("Capture, first part or whole image").setInputFiles(head);
  await original.getByRole("textbox", { name: "Real capacity" }).fill("500107862016");
  await original.getByLabel("End of the disk").setInputFiles(tail);
  await original.getByRole("button", { name: "Add to the original" }).click();
  await expect(original).toContainText("500 GB · 465.8 GiB");
  await expect(original).toContainText("3 MiB of it");
  await expect(original).not.toContainText("Found on the way");
  expect(readFileSync(head).length).toBe(2 << 20);
});

test("a capture taken by the command is evidence like the disk itself", async ({ page, request }) => {
  const image = withBootPartition("captured.img");
  const capture = join(folder, "captured.lkcap");
  execFileSync(join(import.meta.dirname, "../../.bin/latchkey"), ["capture", image, "-o", capture]);
  expect(readFileSync(capture).length).toBeLessThan(64 << 10);
  const made = await request.post("/api/v1/cases", { data: { title: "Captured" } });
  await page.goto(`/cases/${(await made.json()).id}/evidence`);
  const clone = page.getByRole("region", { name: "Evidence of the clone" });
  await clone.getByLabel("Capture, first part or whole image").setInputFiles(capture);
  await clone.getByRole("button", { name: "Add to the clone" }).click();
  await expect(clone).toContainText("50 MB · 48 MiB");
  await expect(clone).toContainText("FAT32");
});

test("a second browser that saves the same case is told so and loses nothing", async ({
  page,
  browser,
  request,
}) => {
  const made = await request.post("/api/v1/cases", { data: { title: "Shared case" } });
  const address = `/cases/${(await made.json()).id}/evidence`;
  const other = await browser.newPage({ baseURL: process.env.LATCHKEY_URL });
  await page.goto(address);
  await other.goto(address);
  const save = async (p: typeof page, machine: string) => {
    await p.getByRole("textbox", { name: /^Machine/ }).fill(machine);
    await p.getByRole("button", { name: "Save the facts" }).click();
  };
  await save(other, "Fenmark D4");
  await expect(other.getByRole("button", { name: "Save the facts" })).toBeDisabled();
  await save(page, "Brisling B1");
  await expect(page.getByRole("alert")).toContainText("Someone else changed this case");
  await expect(page.getByRole("textbox", { name: /^Machine/ })).toHaveValue("Brisling B1");
  await other.close();
});

test("keys are listed, and an unknown case says so", async ({ page }) => {
  await page.goto("/cases");
  await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog", { name: "Keys" })).toContainText("move along the pins");
  await page.goto("/cases/999999/check");
  await expect(page.getByRole("alert")).toContainText("There is no such case");
});
