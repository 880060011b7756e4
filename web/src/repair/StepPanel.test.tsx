import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { PlanStep } from "../api/client";
import { StepPanel } from "./StepPanel";

const step: PlanStep = {
  action: "set-active",
  key: "active 1",
  title: "Mark partition 1 active",
  why: "Boot code runs it.",
  toolbox: "linux",
  disk: "clone",
  risk: "low",
  minutes: 5,
  undo: "Write the saved sector back.",
  saves: [{ first: 0, count: 1 }],
  save: "Sector 0: the commands do so.",
  commands: [
    { text: 'sfdisk --activate "$clone" 1', good: "The partition table has been altered.", bad: "Stop." },
  ],
  putBack: [{ text: "dd if=before.bin", good: "1+0 records out.", bad: "Look for the file." }],
  also: [
    {
      toolbox: "windows-recovery",
      shell: "batch",
      commands: [
        {
          text: "set CLONE=\r\ndiskpart /s",
          typed: "diskpart\nlist disk",
          good: "It is partition 1.",
          bad: "Stop.",
        },
        { text: "Start the machine once.", byHand: true, good: "It comes up.", bad: "Look again." },
      ],
    },
  ],
  after: { verdict: "starts", headline: "Starts: the machine comes up from the clone.", pins: [] },
};

it("names the disk, the risk, the good answer and the undo beside the command", () => {
  render(
    <StepPanel
      step={step}
      done={false}
      disk="the clone · Ostra N3 · 1 TB"
      busy={false}
      may
      onMark={() => {}}
    />,
  );
  const panel = screen.getByRole("region", { name: "The step" });
  expect(panel).toHaveTextContent("the clone · Ostra N3 · 1 TB");
  expect(panel).toHaveTextContent("only what starts the system changes");
  expect(panel).toHaveTextContent("Good: The partition table has been altered. Otherwise: Stop.");
  expect(panel).toHaveTextContent("Save first: Sector 0: the commands do so.");
  expect(panel).toHaveTextContent("dd if=before.bin");
  expect(panel).toHaveTextContent("Undo: Write the saved sector back.");
  expect(panel).toHaveTextContent("Then: Starts: the machine comes up from the clone.");
});

it("shows the step by another toolbox, and what is to be done by hand", async () => {
  render(<StepPanel step={step} done={false} disk="the clone" busy={false} may onMark={() => {}} />);
  await userEvent.click(screen.getByRole("button", { name: "Windows recovery" }));
  const panel = screen.getByRole("region", { name: "The step" });
  expect(panel).not.toHaveTextContent("sfdisk");
  expect(panel).toHaveTextContent("2. By hand: Start the machine once.");
  expect(panel).toHaveTextContent("diskpart list disk");
  expect(panel).toHaveTextContent("The same in the batch fileset CLONE= diskpart /s");
});

it("hands over the mark with what was typed", async () => {
  const mark = vi.fn();
  render(<StepPanel step={step} done={false} disk="the clone" busy={false} may onMark={mark} />);
  await userEvent.type(screen.getByLabelText(/What it answered/), "altered");
  await userEvent.click(screen.getByRole("button", { name: "Done" }));
  expect(mark).toHaveBeenCalledWith({ step: "active 1", state: "done", note: "altered" });
});

it("only takes a done step back", async () => {
  const mark = vi.fn();
  render(<StepPanel step={step} done disk="the clone" busy={false} may onMark={mark} />);
  expect(screen.queryByRole("button", { name: "Done" })).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: "It was not done after all" }));
  expect(mark).toHaveBeenCalledWith({ step: "active 1", state: "undone", note: undefined });
});

it("lets a reader look, and says why nothing can be ticked off", () => {
  render(<StepPanel step={step} done={false} disk="the clone" busy={false} may={false} onMark={() => {}} />);
  expect(screen.queryByRole("button", { name: "Done" })).toBeNull();
  expect(screen.getByText(/your role is reader/)).toBeVisible();
  expect(screen.getByRole("region", { name: "The step" })).toHaveTextContent("sfdisk");
});

it("says whose passphrase is asked for", () => {
  const opens = { ...step, passphrase: "partition 3 of the clone" };
  render(<StepPanel step={opens} done={false} disk="the clone" busy={false} may onMark={() => {}} />);
  expect(screen.getByRole("region", { name: "The step" })).toHaveTextContent(
    "the commands open partition 3 of the clone",
  );
});
