import { defineConfig } from "@playwright/test";
import { chromiumArgs } from "./chromium.mjs";

export default defineConfig({
  testDir: "tests",
  globalSetup: "./server.ts",
  outputDir: "results",
  reporter: [["list"]],
  workers: 1,
  retries: 0,
  timeout: 60_000,
  expect: { timeout: 15_000 },
  forbidOnly: true,
  use: {
    viewport: { width: 1280, height: 800 },
    reducedMotion: "reduce",
    launchOptions: { executablePath: "/usr/bin/chromium", args: chromiumArgs },
    trace: "off",
  },
});
