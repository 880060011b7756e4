import { audit, expect, headline, openCase, test } from "./screens";

const endings: [string, RegExp][] = [
  ["Harbour-master's desktop", /Starts: the machine comes up from the clone/],
  ["Ticket kiosk, North Pier", /Stops at the boot partition: the clone has no EFI system partition/],
  ["Bridge laptop, ferry Sandpiper", /Stops at the mode/],
  ["Engine-log computer, ferry Guillemot", /Depends on one fact/],
  ["Camera recorder, South Pier", /Stops at the system: .* cut off/],
  ["Ticket kiosk, South Pier", /Starts the original/],
  ["Booking office desktop", /Stops at the boot partition: no partition of the clone is marked active/],
  ["Timetable display, Long Quay", /Depends on one fact/],
  ["Ticket kiosk, East Pier", /Stops at the loader/],
  ["Crew mess computer, ferry Guillemot", /Stops at the drive/],
  ["Stores laptop", /Stops at the table: .* 4096-byte sectors/],
  ["Lounge display, ferry Sandpiper", /Stops at the configuration: GRUB looks for the file system UUID/],
  [
    "Purser's laptop",
    /Stops at the configuration: the store looks for the system on a device that no attached/,
  ],
  ["Chart table computer, ferry Guillemot", /reaches its loader; what follows depends/],
  ["Tide office desktop", /Depends on one fact/],
  ["Weather station, Long Quay", /Starts: the machine comes up from the clone/],
  ["Wharf scales", /Starts: the machine comes up from the clone/],
  ["Design office Mac", /Depends on one fact/],
  ["Cargo server, Long Quay", /Starts: the machine comes up from the clone/],
  ["Ticket server, on the telephone", /Stops at the configuration: the store looks for .* not there/],
  ["Galley computer, ferry Sandpiper", /Depends on 2 facts/],
  ["Radar desk computer", /Depends on 2 facts/],
  ["Radio room laptop, read aloud", /Stops at the boot partition: the clone has no EFI system partition/],
];

for (const [title, said] of endings) {
  test(`the demo case “${title}” ends as declared`, async ({ page }) => {
    await openCase(page, title);
    await expect(headline(page)).toHaveText(said);
    await expect(
      page.getByRole("button", {
        name: /^(original|clone), (Drive|Mode|Order|Table|Boot partition|Loader|Configuration|System):/,
      }),
    ).toHaveCount(16);
  });
}

test("a pin opens its finding with the very bytes", async ({ page }) => {
  await openCase(page, "Engine-log computer, ferry Guillemot");
  await page.getByRole("button", { name: /^clone, Table: not proven/ }).click();
  const detail = page.getByRole("dialog", { name: /Table, clone/ });
  await expect(detail).toContainText("GPT header (primary)");
  await expect(detail).toContainText("HeaderCRC32");
  await expect(detail.locator("pre")).toContainText("45");
  await page.keyboard.press("Escape");
  await expect(detail).toBeHidden();
});

test("answering the question settles the verdict and is kept", async ({ page }) => {
  await openCase(page, "Timetable display, Long Quay");
  await page.getByRole("button", { name: /^Yes: Has the firmware a boot entry/ }).click();
  await expect(headline(page)).toHaveText(/Starts: the machine comes up from the clone/);
  await page.reload();
  await expect(headline(page)).toHaveText(/Starts: the machine comes up from the clone/);
  // What was told is listed with who told it, and can be withdrawn: then it is asked again.
  await page.getByRole("link", { name: "Evidence" }).click();
  await page.getByRole("tab", { name: "Pieces of evidence" }).click();
  const told = page.getByRole("region", { name: "What was told of the machine" });
  const row = told.getByRole("row", { name: /Has a boot entry for the clone/ });
  await expect(row).toContainText("Yes");
  await expect(row).toContainText("Sunniva");
  await row.getByRole("button", { name: /^Withdraw/ }).click();
  await expect(row).toHaveCount(0);
  await page.getByRole("link", { name: "Start check" }).click();
  await expect(page.getByRole("button", { name: /^Yes: Has the firmware a boot entry/ })).toBeVisible();
});

test("what-if answers at once and saves nothing until asked", async ({ page }) => {
  await openCase(page, "Ticket kiosk, South Pier");
  await page.getByRole("checkbox", { name: "original attached" }).uncheck();
  await expect(headline(page)).toHaveText(/Starts: the machine comes up from the clone/);
  await expect(page.getByText("supposed machine, not saved")).toBeVisible();
  await page.reload();
  await expect(headline(page)).toHaveText(/Starts the original/);
  await page.getByRole("combobox", { name: "First in the boot order" }).click();
  await page.getByRole("option", { name: "clone first" }).click();
  await expect(headline(page)).toHaveText(/Starts: the machine comes up from the clone/);
  await page.getByRole("button", { name: "Back to what is known" }).click();
  await expect(headline(page)).toHaveText(/Starts the original/);
});

test("the scale switch says which scale it is", async ({ page }) => {
  await openCase(page, "Ticket kiosk, North Pier");
  await expect(page.getByText("not to scale: small partitions are drawn larger")).toBeVisible();
  await page.getByRole("button", { name: "True scale" }).click();
  await expect(page.getByText("heights in proportion to size, both disks alike")).toBeVisible();
  await page.getByRole("button", { name: /^original, partition 1: EFI system partition/ }).press("Enter");
  await expect(page.getByRole("dialog", { name: "Partition 1 of the original" })).toContainText("C12A7328");
});

test("the start check shows its essentials without scrolling at 1280×800", async ({ page }) => {
  for (const title of ["Ticket kiosk, North Pier", "Engine-log computer, ferry Guillemot"]) {
    await openCase(page, title);
    for (const name of ["Verdict", "Pins", "Strata", "Comparison"]) {
      const box = await page.getByRole("region", { name, exact: true }).boundingBox();
      expect(box && box.y + box.height, `${name} of ${title}`).toBeLessThanOrEqual(800);
    }
  }
});

for (const theme of ["light", "dark"] as const) {
  test(`every screen passes the accessibility audit in the ${theme} theme`, async ({ page }) => {
    test.setTimeout(180_000); // many screens, each audited whole
    await page.emulateMedia({ colorScheme: theme });
    await page.goto("/cases");
    await expect(page.getByRole("table", { name: "Cases" })).toBeVisible();
    await audit(page);
    await page.keyboard.press("n");
    await expect(page.getByRole("dialog", { name: "New case" })).toBeVisible();
    await audit(page);
    await page.keyboard.press("Escape");
    for (const title of [
      "Ticket kiosk, North Pier",
      "Engine-log computer, ferry Guillemot",
      "Ticket kiosk, South Pier",
    ]) {
      await openCase(page, title);
      await audit(page);
    }
    await page.getByRole("button", { name: /^clone, Drive/ }).click();
    await expect(page.getByRole("dialog")).toBeVisible();
    await audit(page);
    await page.keyboard.press("Escape");
    await page.keyboard.press("e");
    await expect(page.getByRole("region", { name: "Evidence of the clone" })).toContainText(
      "Disk identifier",
    );
    await audit(page);
    await page.getByRole("button", { name: "Replace the bytes" }).first().click();
    await audit(page);
    await page.getByRole("button", { name: "Tell from a screen" }).first().click();
    await audit(page);
    for (const view of ["Who refers to what", "Partition tables", "Pieces of evidence"]) {
      await page.getByRole("tab", { name: view }).click();
      await audit(page);
    }
    await page.goto("/settings");
    await expect(page.getByRole("radiogroup")).toBeVisible();
    await audit(page);
  });
}

test("the theme that is set stays set", async ({ page }) => {
  await page.goto("/settings");
  await page.getByRole("radio", { name: /^Dark/ }).check();
  await page.reload();
  await expect(page.locator("html")).toHaveAttribute("data-theme", "dark");
});
