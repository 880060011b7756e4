import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { Judgement } from "../api/client";
import { Said } from "./Said";

const judgement = (part: Partial<Judgement>): Judgement => ({
  said: "BOOTMGR is missing",
  messages: [],
  causes: [],
  contradicts: false,
  verdict: "The computation agrees.",
  ...part,
});

it("sends what was typed, and only when it is new", async () => {
  const say = vi.fn();
  render(<Said said="" busy={false} onSay={say} />);
  const button = screen.getByRole("button", { name: /Hold it against/ });
  expect(button).toBeDisabled();
  await userEvent.type(screen.getByRole("textbox"), "grub rescue{Enter}");
  expect(say).toHaveBeenCalledWith("grub rescue");
});

it("says a contradiction openly, and ranks the causes", () => {
  render(
    <Said
      said="BOOTMGR is missing"
      busy={false}
      onSay={() => {}}
      judgement={judgement({
        contradicts: true,
        verdict: "The computation rules it out.",
        causes: [
          {
            stage: "loader",
            text: "It is not there.",
            look: "Look.",
            message: "m",
            fit: "against",
            because: "It is there.",
          },
        ],
      })}
    />,
  );
  expect(screen.getByText(/Contradiction/)).toBeInTheDocument();
  expect(screen.getByRole("listitem")).toHaveTextContent(
    "ruled out · Loader: It is not there. Computed: It is there.",
  );
});
