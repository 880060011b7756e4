import Box from "@mui/material/Box";
import type { Bench } from "../api/client";
import { Pick } from "../parts/Pick";

interface Props {
  bench: Bench;
  onChange: (bench: Bench) => void;
}

/** The parts of the bench's machine besides its drives. */
export function Machine({ bench, onChange }: Props) {
  const set = (part: Partial<Bench>) => onChange({ ...bench, ...part });
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1.25 }}>
      <Pick
        label="Firmware mode"
        value={bench.mode}
        options={{ uefi: "UEFI", legacy: "Legacy", "uefi-csm": "UEFI with compatibility" }}
        onPick={(mode) => set({ mode })}
      />
      <Pick
        label="Architecture"
        value={bench.arch}
        options={{ x64: "x64", ia32: "ia32", arm64: "arm64" }}
        onPick={(arch) => set({ arch })}
      />
      <Pick
        label="Secure boot"
        value={bench.secureBoot === undefined ? undefined : bench.secureBoot ? "on" : "off"}
        options={{ on: "On", off: "Off" }}
        onPick={(v) => set({ secureBoot: v === undefined ? undefined : v === "on" })}
      />
      <Pick
        label="Firmware's choices"
        value={bench.behaviour === "generic" ? undefined : bench.behaviour}
        options={{ edk2: "as edk2 (UEFI)", seabios: "as SeaBIOS (legacy)" }}
        onPick={(v) => set({ behaviour: v ?? "generic" })}
      />
    </Box>
  );
}
