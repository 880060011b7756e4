import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { expect, it, vi } from "vitest";
import type { BootEntry } from "../api/client";
import { MachineDialog } from "./MachineDialog";

const entry = (number: string, ordered: boolean): BootEntry => ({
  number,
  named: false,
  name: `Entry ${number}`,
  path: "HD(1)",
  active: true,
  next: false,
  ordered,
});

it("moves entries, and takes them out of the order and in again", async () => {
  const set = vi.fn();
  render(
    <MachineDialog
      caseId={1}
      open
      onClose={() => {}}
      change={{}}
      attached={() => true}
      entries={[entry("0001", true), entry("0002", true), entry("0003", false)]}
      set={set}
    />,
    { wrapper: MemoryRouter },
  );
  await userEvent.click(screen.getByRole("button", { name: "Move entry 0002 up" }));
  expect(set).toHaveBeenLastCalledWith({ bootOrder: ["0002", "0001"] });
  await userEvent.click(screen.getByRole("checkbox", { name: "Entry 0001 is in the order" }));
  expect(set).toHaveBeenLastCalledWith({ bootOrder: ["0002"] });
  await userEvent.click(screen.getByRole("checkbox", { name: "Entry 0003 is in the order" }));
  expect(set).toHaveBeenLastCalledWith({ bootOrder: ["0001", "0002", "0003"] });
  expect(screen.getByRole("button", { name: "Move entry 0003 down" })).toBeDisabled();
});

it("says what to add when there are no entries", () => {
  render(
    <MachineDialog
      caseId={1}
      open
      onClose={() => {}}
      change={{}}
      attached={() => true}
      entries={[]}
      set={() => {}}
    />,
    { wrapper: MemoryRouter },
  );
  expect(screen.getByText(/No boot entries are in evidence/)).toBeInTheDocument();
});
