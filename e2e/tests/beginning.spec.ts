import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, truncateSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Page } from "@playwright/test";
import { audit, expect, test } from "./screens";

const folder = mkdtempSync(join(tmpdir(), "latchkey-beginning-"));
test.afterAll(() => rmSync(folder, { recursive: true, force: true }));

async function begin(page: Page, title: string) {
  await page.goto("/cases");
  await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
  await page.keyboard.press("n");
  await page.getByRole("dialog", { name: "New case" }).getByRole("textbox", { name: "Case" }).fill(title);
  await page.keyboard.press("Enter");
  await expect(page.getByRole("group", { name: "Where does it stand?" })).toBeVisible();
}

/** A disk of 500 GB with a table that Debian's sfdisk writes, sparse. */
function disk(name: string, script: string): string {
  const path = join(folder, name);
  writeFileSync(path, "");
  truncateSync(path, 976_773_168 * 512);
  execFileSync("/usr/sbin/sfdisk", ["--quiet", path], { input: script });
  return path;
}

const capture = (path: string, to: string) => {
  const file = join(folder, to);
  execFileSync(join(import.meta.dirname, "../../.bin/latchkey"), ["capture", path, "-o", file]);
  return file;
};

const windows = (id: string) =>
  `label: gpt\nlabel-id: ${id}\nsize=100MiB, type=U\nsize=16MiB, type=E3C9E316-0B5C-4DB8-817D-F92DF00215AE\ntype=EBD0A0A2-B9E5-4433-87C0-68B6B72699C7\n`;

// Every field that is filled, every line that is typed and every choice that is made is an
// entry: two forms and thirteen lists made it about 41 before.
test("two disk-management screens read aloud: an answer after at most twelve entries", async ({ page }) => {
  let entries = 1; // the case's name
  await begin(page, "Read aloud");
  const next = page.getByRole("region", { name: "Next" });
  await expect(next).toContainText("Say where it stands");
  await page.getByText("does not start", { exact: true }).click();
  entries++;
  await expect(next).toContainText("Say what you can get hold of");
  await page.getByText("only its screens", { exact: true }).click();
  entries++;
  await expect(next).toContainText("Have the disks read aloud");
  const lines = [
    "original 465.76 GB",
    "100 MB EFI",
    "C: 465.14 GB NTFS",
    "clone 931.51 GB, the same",
    "without EFI",
  ];
  await page.getByRole("textbox", { name: "What a command printed" }).fill(lines.join("\n"));
  entries += lines.length;
  await page.getByRole("button", { name: "Take it" }).first().click();
  const evidence = page.getByRole("region", { name: "Evidence" });
  await expect(evidence).toContainText("the clone");
  const so = page.getByRole("region", { name: "What is known already" });
  const question = so.getByRole("group", { name: "The question that settles most" });
  // What the person at the machine says: UEFI, the clone is in it alone, the screen shows no
  // other part of it.
  await expect(question).toBeVisible();
  while ((await question.isVisible()) && entries < 12) {
    const asked = await question.innerText();
    const answer = /mode/i.test(asked) ? "UEFI" : /clone attached/i.test(asked) ? "Yes" : "No";
    await question.getByRole("button", { name: answer, exact: true }).click();
    entries++;
    // The question may go away while it is looked at.
    await expect.poll(() => question.innerText({ timeout: 500 }).catch(() => "")).not.toBe(asked);
  }
  await expect(so).toContainText("Stops at the boot partition: the clone has no EFI system partition");
  expect(entries).toBeLessThanOrEqual(12);
  await audit(page);
});

test("six mixed pieces at once: each finds its disk, or asks, or says what it is", async ({ page }) => {
  await begin(page, "Mixed pieces");
  const original = capture(disk("a.img", windows("11111111-1111-4111-8111-111111111111")), "first.lkcap");
  const place = page.getByLabel("Files with evidence");
  const evidence = page.getByRole("region", { name: "Evidence" });
  await place.setInputFiles(original);
  await expect(evidence.getByRole("group", { name: "Which disk is first.lkcap?" })).toBeVisible();
  await audit(page);
  await evidence.getByRole("button", { name: "original", exact: true }).click();
  await expect(evidence).toContainText(/first\.lkcap/);

  const other = capture(disk("b.img", windows("22222222-2222-4222-8222-222222222222")), "second.lkcap");
  const twin = capture(disk("a.img", windows("11111111-1111-4111-8111-111111111111")), "twin.lkcap");
  const text = (name: string, body: string | Buffer) => {
    const path = join(folder, name);
    writeFileSync(path, body);
    return path;
  };
  await place.setInputFiles([
    other,
    twin,
    text("photo.jpg", Buffer.from([0xff, 0xd8, 0xff, 0xe0, 0, 16])),
    text(
      "entries.txt",
      "$ efibootmgr -v\nBootCurrent: 0001\nBootOrder: 0001\nBoot0001* Windows Boot Manager\tHD(1,GPT,33333333-3333-4333-8333-333333333333,0x800,0x32000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)\n",
    ),
    text("fstab", "UUID=1 / ext4 defaults 0 1\n"),
    text("msinfo.txt", "BIOS Mode\tUEFI\nSecure Boot State\tOff\n"),
  ]);
  await expect(evidence).toContainText("second.lkcap");
  await expect(evidence).toContainText("efibootmgr -v");
  await expect(evidence).toContainText("system summary");
  await expect(evidence).toContainText("It lies on the disk of the system that it was read in.");
  await expect(evidence.getByRole("group", { name: "Which disk is twin.lkcap?" })).toContainText(
    "a copy can bear the same",
  );
  if (process.env.LATCHKEY_PICTURES)
    await page.screenshot({ path: `${process.env.LATCHKEY_PICTURES}/beginning-pieces.png`, fullPage: true });
  await evidence.getByRole("button", { name: "Take away twin.lkcap" }).click();
  await expect(evidence).not.toContainText("twin.lkcap");
  await audit(page);

  await evidence.getByRole("button", { name: "It is the other way round" }).click();
  await page.getByRole("link", { name: "Evidence", exact: true }).click();
  await expect(page.getByRole("region", { name: "Evidence of the clone" })).toContainText("first.lkcap");
});

test("a boot list that is typed becomes entries and their order", async ({ page }) => {
  await begin(page, "A boot list");
  await page.getByText("Type the firmware's boot list").click();
  await page
    .getByRole("textbox", { name: /Its lines from the top/ })
    .fill("Windows Boot Manager (the new drive)\nthe new drive\nWindows Boot Manager, old drive");
  await page.getByRole("button", { name: "Take it" }).last().click();
  await expect(page.getByText("a boot entry to the clone")).toBeVisible();
  await page.goto(page.url().replace("beginning", "evidence?view=pieces"));
  await expect(
    page
      .getByText("Whose boot entry does the firmware try first?")
      .or(page.getByText("First in the boot order"))
      .first(),
  ).toBeVisible();
});

test("the stick's folder gives evidence, and what was done comes into the history", async ({ page }) => {
  await begin(page, "From the stick");
  const put = (name: string, body: string) => {
    const path = join(folder, name);
    writeFileSync(path, body);
    return path;
  };
  const key = "linux-names";
  await page
    .getByLabel("Files with evidence")
    .setInputFiles([
      put("SHA256SUMS", "0  clone.lkcap\n"),
      put("machine.txt", "System Model: Fenmark D4\r\nBIOS Mode: UEFI\r\nSecure Boot State: Off\r\n"),
      put("machine.json", "{}"),
      put(
        "record.txt",
        "2026-01-02T03:04:05Z step 1 begins: Name the clone\r\n2026-01-02T03:05:06Z finished: Starts\r\n",
      ),
      put(
        "steps.json",
        JSON.stringify([
          {
            key,
            title: "Name the clone",
            state: "done",
            began: "2026-01-02T03:04:05Z",
            ended: "2026-01-02T03:05:00Z",
            now: "Starts",
          },
        ]),
      ),
    ]);
  const evidence = page.getByRole("region", { name: "Evidence" });
  await expect(evidence).toContainText("system summary");
  await expect(evidence).not.toContainText("machine.json");
  await page.getByRole("button", { name: "Case …" }).click();
  await page.getByRole("menuitem", { name: "History" }).click();
  const history = page.getByRole("dialog");
  await expect(history).toContainText("2026-01-02T03:04:05Z step 1 begins: Name the clone");
  await expect(history).toContainText("2026-01-02T03:05:06Z finished: Starts");
});
