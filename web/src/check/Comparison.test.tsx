import { ThemeProvider } from "@mui/material/styles";
import { render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it, vi } from "vitest";
import type { Row } from "../api/client";
import { theme } from "../theme";
import { Comparison } from "./Comparison";

const row = (group: Row["group"], label: string, matter: Row["matter"]): Row => ({
  group,
  label,
  matter,
  original: "GPT",
  clone: "MBR",
  meaning: `meaning of ${label}`,
  facts: [{ label: "f", value: "v", source: { origin: "bytes", offset: 0, length: 1 } }],
});

it("puts what decides first and folds away what agrees", async () => {
  const open = vi.fn();
  render(
    <ThemeProvider theme={theme}>
      <Comparison
        rows={[
          row("partition style", "Alike", "agrees"),
          row("partition style", "Fine", "fine"),
          row("geometry", "Cut", "decides"),
        ]}
        onOpen={open}
      />
    </ThemeProvider>,
  );
  const groups = screen.getAllByRole("rowheader").map((h) => h.textContent);
  expect(groups).toEqual(["Geometry", "Cut", "Partition style", "Fine"]);
  expect(screen.queryByText("Alike")).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: "1 row agrees" }));
  expect(screen.getByText("Alike")).toBeInTheDocument();
  await userEvent.click(screen.getByRole("button", { name: "Cut" }));
  expect(open).toHaveBeenCalledWith(expect.objectContaining({ label: "Cut" }));
});
