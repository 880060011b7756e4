import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:8384" } },
  test: {
    environment: "jsdom",
    globals: true,
    setupFiles: "src/test-setup.ts",
    testTimeout: 60_000,
    pool: "threads",
    isolate: false,
  },
});
