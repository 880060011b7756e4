/** Signs a browser's page in by a key, and returns when the application is there. */
export async function signIn(page, base, key) {
  await page.goto(`${base}/#key=${key}`);
  await page.getByRole("heading", { name: "Cases" }).waitFor();
}
