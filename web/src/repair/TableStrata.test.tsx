import { ThemeProvider } from "@mui/material/styles";
import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";
import { theme } from "../theme";
import { TableStrata } from "./TableStrata";

test("each partition says how sure its place is", () => {
  render(
    <ThemeProvider theme={theme}>
      <TableStrata
        table={{
          sectors: 400000,
          sectorSize: 512,
          strata: [
            {
              number: 1,
              start: 2048,
              length: 100000,
              size: "48.8 MiB",
              role: "boot",
              holds: "FAT32",
              sure: true,
              by: "told by its file system and the original's table",
            },
            {
              number: 2,
              start: 200000,
              length: 100000,
              size: "48.8 MiB",
              role: "system",
              holds: "ext",
              sure: false,
              by: "told by its file system alone",
            },
          ],
        }}
      />
    </ThemeProvider>,
  );
  expect(screen.getAllByRole("img").map((l) => l.getAttribute("aria-label"))).toEqual([
    "partition 1, FAT32, 48.8 MiB, sure: told by its file system and the original's table",
    "free",
    "partition 2, ext, 48.8 MiB, told by its file system alone",
    "free",
  ]);
});
