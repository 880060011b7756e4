import { ThemeProvider } from "@mui/material/styles";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { ReactNode } from "react";
import type { Attempt, Run } from "../api/client";
import { theme } from "../theme";
import { Attempts } from "./Attempts";
import { Runs } from "./Runs";

const wrapper = ({ children }: { children: ReactNode }) => (
  <ThemeProvider theme={theme}>{children}</ThemeProvider>
);

const stale: Attempt = {
  entry: "0001",
  name: "Old",
  steps: [{ stage: "order", state: "blocks", text: "It leads to no attached disk." }],
  handsOver: false,
  final: false,
};
const good: Attempt = {
  drive: "clone",
  role: "clone",
  partition: 1,
  loader: "\\EFI\\BOOT\\BOOTX64.EFI",
  steps: [{ stage: "system", state: "passes", text: "Windows comes up." }],
  handsOver: true,
  final: true,
  also: ["original"],
};

it("tells of each attempt what was tried, where it led and why it ended, and opens it", async () => {
  const open = vi.fn();
  render(<Attempts attempts={[stale, good]} onOpen={open} />, { wrapper });
  const [first, second] = screen.getAllByRole("listitem");
  expect(first).toHaveTextContent("Entry 0001 “Old” → nothing");
  expect(first).toHaveTextContent("stopped at order: It leads to no attached disk.");
  expect(second).toHaveTextContent("started: Windows comes up.");
  expect(second).toHaveTextContent("The entry could mean original just as well.");
  await userEvent.click(screen.getAllByRole("button")[1]!);
  expect(open).toHaveBeenCalledWith(good, 2);
});

it("sets the clone alone, the original alone and both side by side", () => {
  const run = (name: Run["name"], stands: boolean): Run => ({
    name,
    stands,
    verdict: "stops",
    reaches: "stops",
    headline: `${name} stops.`,
    attempts: [stale],
  });
  render(
    <Runs
      runs={[run("clone alone", true), run("original alone", false), run("both attached", false)]}
      onOpen={() => {}}
    />,
    { wrapper },
  );
  expect(screen.getByRole("region", { name: "clone alone" })).toHaveTextContent("as it stands");
  expect(screen.getByRole("region", { name: "both attached" })).not.toHaveTextContent("as it stands");
});
