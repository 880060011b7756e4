import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, render, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import type { ReactNode } from "react";
import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Case, Fact, View } from "../api/client";
import { Problem } from "../api/call";
import * as api from "../api/client";
import { theme } from "../theme";
import { FactList } from "./FactList";

const show = (children: ReactNode) =>
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <ThemeProvider theme={theme}>{children}</ThemeProvider>
    </QueryClientProvider>,
  );

const fact: Fact = {
  label: "Header checksum",
  value: "81F73E76",
  source: {
    origin: "bytes",
    drive: "clone",
    structure: "GPT header (primary)",
    field: "HeaderCRC32",
    offset: 528,
    length: 4,
  },
};
const view: View = {
  offset: 464,
  hex: "ab".repeat(160),
  held: true,
  fields: [
    { structure: "MBR", name: "Signature", offset: 510, length: 2, value: "55 AA" },
    { structure: "GPT header (primary)", name: "Signature", offset: 512, length: 8, value: "EFI PART" },
    { structure: "GPT header (primary)", name: "HeaderCRC32", offset: 528, length: 4, value: "81F73E76" },
  ],
};

/** A case whose clone has a piece of evidence. */
const caseWith = (evidence?: number): Case => ({
  id: 7,
  version: 1,
  title: "Kiosk",
  machine: "",
  firmware: {},
  deviceOrder: [],
  drives: [{ role: "original" }, { role: "clone", evidence }],
  statements: [],
  verdict: "",
  reaches: "",
  stage: "",
  headline: "",
  demo: false,
  createdAt: "",
  updatedAt: "",
});

describe("FactList", () => {
  beforeEach(() => {
    vi.restoreAllMocks();
    vi.spyOn(api, "getCase").mockResolvedValue(caseWith(4));
  });
  it("shows the bytes of the first fact with the fields of its structure alone", async () => {
    const read = vi.spyOn(api, "readBytes").mockResolvedValue(view);
    show(<FactList caseId={7} facts={[fact]} />);
    const fields = await screen.findByText("EFI PART");
    expect(read).toHaveBeenCalledWith(7, "clone", 4, 464, 144);
    const list = fields.closest("dl")!;
    expect(within(list).getByText("HeaderCRC32")).toBeInTheDocument();
    expect(within(list).queryByText("55 AA")).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Hide the bytes" }));
    expect(screen.getByRole("button", { name: "Show the bytes" })).toBeInTheDocument();
  });
  it("says so when the bytes are not in the evidence, or cannot be had", async () => {
    vi.spyOn(api, "readBytes").mockResolvedValueOnce({ ...view, held: false, hex: "", fields: [] });
    show(<FactList caseId={7} facts={[fact]} />);
    expect(await screen.findByText("These bytes are not in the evidence.")).toBeInTheDocument();
    vi.spyOn(api, "readBytes").mockRejectedValueOnce(new Problem(503, "The database does not answer."));
    show(<FactList caseId={8} facts={[fact]} />);
    expect(await screen.findByText("The database does not answer.")).toBeInTheDocument();
  });
  it("shows the bytes of the evidence that is in force, after a replacement too", async () => {
    const read = vi.spyOn(api, "readBytes").mockResolvedValue(view);
    const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
    const list = (
      <QueryClientProvider client={client}>
        <ThemeProvider theme={theme}>
          <FactList caseId={7} facts={[fact]} />
        </ThemeProvider>
      </QueryClientProvider>
    );
    render(list);
    await screen.findByText("EFI PART");
    read.mockResolvedValue({
      ...view,
      fields: view.fields.map((f) => ({ ...f, value: f.value.replace("EFI PART", "ANOTHER") })),
    });
    act(() => client.setQueryData(["case", 7], caseWith(5)));
    expect(await screen.findByText("ANOTHER")).toBeInTheDocument();
    expect(read).toHaveBeenLastCalledWith(7, "clone", 5, 464, 144);
    expect(screen.queryByText("EFI PART")).toBeNull();
    act(() => client.setQueryData(["case", 7], caseWith()));
    expect(await screen.findByText("These bytes are not in the evidence.")).toBeInTheDocument();
  });
  it("offers no bytes for what a person told", () => {
    show(
      <FactList
        caseId={7}
        facts={[{ label: "Mode", value: "UEFI", source: { origin: "typed", offset: 0, length: 0 } }]}
      />,
    );
    expect(screen.getByText(/told by a person/)).toBeInTheDocument();
    expect(screen.queryByRole("button")).toBeNull();
  });
  it("says when no fact stands behind a finding", () => {
    show(<FactList caseId={7} facts={[]} />);
    expect(screen.getByText("No single fact stands behind this.")).toBeInTheDocument();
  });
});
