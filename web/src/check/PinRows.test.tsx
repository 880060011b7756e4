import { ThemeProvider } from "@mui/material/styles";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Drive, Pin } from "../api/client";
import { stages } from "../parts/stages";
import { theme } from "../theme";
import { PinRows } from "./PinRows";

const pins = (blockedAt: number): Pin[] =>
  stages.map(([stage], i) => ({
    stage,
    state: i < blockedAt ? "passes" : i === blockedAt ? "blocks" : "behind",
    text: `text of ${stage}`,
    facts: [],
    risks: [],
  }));
const drives: Drive[] = [
  { role: "original", model: "A", pins: pins(8) },
  { role: "clone", model: "B", pins: pins(4) },
];

const show = (onChoose: () => void) =>
  render(
    <ThemeProvider theme={theme}>
      <PinRows drives={drives} chosen={null} onChoose={onChoose} />
    </ThemeProvider>,
  );

describe("PinRows", () => {
  it("names every pin with its drive, stage and state", () => {
    show(() => {});
    expect(screen.getAllByRole("button")).toHaveLength(16);
    expect(
      screen.getByRole("button", { name: "clone, Boot partition: blocks. text of boot-partition" }),
    ).toBeInTheDocument();
    expect(screen.getByRole("button", { name: /^original, System: passes/ })).toBeInTheDocument();
    expect(screen.getByRole("button", { name: /^clone, Loader: not reached/ })).toBeInTheDocument();
  });
  it("is walked with the arrow keys and opened with Enter", async () => {
    const choose = vi.fn();
    show(choose);
    await userEvent.tab();
    expect(screen.getByRole("button", { name: /^original, Drive/ })).toHaveFocus();
    await userEvent.keyboard("{ArrowRight}{ArrowDown}");
    expect(screen.getByRole("button", { name: /^clone, Mode/ })).toHaveFocus();
    await userEvent.keyboard("{ArrowLeft}{ArrowLeft}{Enter}");
    expect(choose).toHaveBeenCalledWith({ role: "clone", stage: "drive" });
  });
  it("opens a pin that is clicked", async () => {
    const choose = vi.fn();
    show(choose);
    await userEvent.click(screen.getByRole("button", { name: /^clone, Table/ }));
    expect(choose).toHaveBeenCalledWith({ role: "clone", stage: "table" });
  });
});
