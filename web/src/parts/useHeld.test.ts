import { renderHook } from "@testing-library/react";
import { expect, it } from "vitest";
import { useHeld } from "./useHeld";

it("keeps what was there while a later try fails, and nothing of another case", () => {
  const seen = renderHook(({ of, data }: { of: number; data?: string }) => useHeld(of, data), {
    initialProps: { of: 1, data: undefined as string | undefined },
  });
  expect(seen.result.current).toBeUndefined();
  seen.rerender({ of: 1, data: "first" });
  expect(seen.result.current).toBe("first");
  seen.rerender({ of: 1, data: undefined });
  expect(seen.result.current).toBe("first");
  seen.rerender({ of: 1, data: "second" });
  expect(seen.result.current).toBe("second");
  seen.rerender({ of: 2, data: undefined });
  expect(seen.result.current).toBeUndefined();
});
