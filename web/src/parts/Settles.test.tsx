import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { Question } from "../api/client";
import { Settles } from "./Settles";

const question = (part: Partial<Question>): Question => ({
  id: "q",
  stage: "table",
  text: "Does it?",
  how: "Look there.",
  options: [],
  ...part,
});

it("offers answers with what each leads to, and says where to look", async () => {
  const answer = vi.fn();
  const q = question({
    fact: "choice:usesBackupGPT",
    options: [
      { id: "yes", label: "Yes", leads: "the clone reaches its loader" },
      { id: "no", label: "No", leads: "stops at the table" },
    ],
  });
  render(<Settles questions={[q]} onAnswer={answer} busy={false} />);
  expect(screen.getByText("Look there.")).toBeInTheDocument();
  expect(screen.getByRole("button", { name: "No: Does it?" })).toHaveTextContent("stops at the table");
  await userEvent.click(screen.getByRole("button", { name: "Yes: Does it?" }));
  expect(answer).toHaveBeenCalledWith(q, "yes");
});

it("offers no answer where only evidence tells", () => {
  render(
    <Settles
      questions={[question({ options: [{ id: "yes", label: "Yes" }] })]}
      onAnswer={() => {}}
      busy={false}
    />,
  );
  expect(screen.queryByRole("button")).toBeNull();
});
