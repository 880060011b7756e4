import "@testing-library/jest-dom/vitest";
import { cleanup, configure } from "@testing-library/react";
import { afterEach, vi } from "vitest";

// The machines that run this are shared: waiting long costs nothing when all is well.
configure({ asyncUtilTimeout: 15_000 });

// The files share one document and one set of modules: each leaves both as they were.
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  vi.useRealTimers();
  localStorage.clear();
});
