import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import type { Case } from "../api/client";
import { WhatIf } from "./WhatIf";

const c: Case = {
  id: 1,
  version: 1,
  title: "Kiosk",
  machine: "",
  firmware: { mode: "uefi" },
  deviceOrder: ["clone"],
  drives: [
    { role: "original", attached: false },
    { role: "clone", attached: true },
  ],
  statements: [],
  verdict: "",
  reaches: "",
  stage: "",
  headline: "",
  demo: false,
  createdAt: "",
  updatedAt: "",
};

describe("WhatIf", () => {
  it("starts from what is known", () => {
    render(
      <WhatIf entries={[]} case={c} change={null} onChange={() => {}} onKeep={() => {}} keeping={false} />,
    );
    expect(screen.getByRole("checkbox", { name: "original attached" })).not.toBeChecked();
    expect(screen.getByRole("checkbox", { name: "clone attached" })).toBeChecked();
    expect(screen.getByText("nothing is saved")).toBeInTheDocument();
  });
  it("changes one thing and keeps the others of the change", async () => {
    const change = vi.fn();
    render(
      <WhatIf
        entries={[]}
        case={c}
        change={{ mode: "legacy", attached: { clone: false } }}
        onChange={change}
        onKeep={() => {}}
        keeping={false}
      />,
    );
    await userEvent.click(screen.getByRole("checkbox", { name: "original attached" }));
    expect(change).toHaveBeenCalledWith({ mode: "legacy", attached: { clone: false, original: true } });
  });
  it("goes back, or keeps the change when asked", async () => {
    const change = vi.fn();
    const keep = vi.fn();
    render(
      <WhatIf
        entries={[]}
        case={c}
        change={{ deviceOrder: ["original", "clone"] }}
        onChange={change}
        onKeep={keep}
        keeping={false}
      />,
    );
    await userEvent.click(screen.getByRole("button", { name: "Back to what is known" }));
    expect(change).toHaveBeenCalledWith(null);
    await userEvent.click(screen.getByRole("button", { name: /^Keep as/ }));
    expect(keep).toHaveBeenCalled();
  });
});
