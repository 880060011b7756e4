import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import visuallyHidden from "@mui/utils/visuallyHidden";
import type { PlanOfCopy, Preparing } from "../api/client";
import { GiB, typedGiB } from "./byHand";
import { Columns } from "./Columns";
import { Sizes } from "./Sizes";

type Strategy = Preparing["layouts"][number]["strategy"];

const strategies: [Strategy, string][] = [
  ["keep", "keep sizes"],
  ["proportion", "in proportion"],
  ["main", "main takes the rest"],
  ["hand", "by hand"],
];

interface Props {
  preparing: Preparing;
  plan: PlanOfCopy;
  onChange: (part: Partial<PlanOfCopy>) => void;
}

/** The layout now and then, true to scale, with what each strategy does to every partition. */
export function Before({ preparing: p, plan, onChange }: Props) {
  const strategy = (plan.strategy || p.plan.strategy || "keep") as Strategy;
  const layout = p.layouts.find((l) => l.strategy === strategy);
  const sizes = plan.sizes ?? {};
  // By hand begins with what is shown, or with what fits where that does not.
  const shown = layout?.fits === "no" ? (p.layouts.find((l) => l.fits === "yes") ?? layout) : layout;
  const byHand = (changed: Record<string, number>) => {
    const from = Object.fromEntries((shown?.placed ?? []).map((x) => [x.number, x.size.bytes]));
    const open = p.parts.filter((x) => !x.fixed).map((x) => x.number);
    const kept = Object.fromEntries(
      open.map((n) => [n, (strategy === "hand" ? sizes[n] : undefined) ?? from[n]]).filter(([, b]) => b),
    );
    onChange({ strategy: "hand", sizes: { ...kept, ...changed } });
  };
  return (
    <Paper component="section" aria-label="Layout">
      <Box
        sx={{
          display: "flex",
          flexWrap: "wrap",
          justifyContent: "space-between",
          alignItems: "center",
          px: 1.5,
          py: 0.75,
          borderBottom: 1,
          borderColor: "divider",
        }}
      >
        <Typography variant="body2" component="h2" sx={{ fontWeight: 650 }}>
          Layout
        </Typography>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={strategy}
          aria-label="How sizes are given"
          onChange={(_, s: Strategy | null) => s && (s === "hand" ? byHand({}) : onChange({ strategy: s }))}
        >
          {strategies.map(([key, name]) => {
            // What is given by hand is judged once it was given.
            const l =
              key === "hand" && strategy !== "hand" ? undefined : p.layouts.find((x) => x.strategy === key);
            return (
              <ToggleButton
                title={l?.fits === "no" ? "does not fit" : undefined}
                key={key}
                value={key}
                sx={{ py: 0, px: 1, fontSize: "0.75rem", textTransform: "none" }}
              >
                <Box component="span" sx={{ color: l?.fits === "no" ? "meaning.rust" : undefined }}>
                  {name}
                </Box>
                {l?.fits === "no" && (
                  <Box component="span" sx={visuallyHidden}>
                    , does not fit
                  </Box>
                )}
              </ToggleButton>
            );
          })}
        </ToggleButtonGroup>
      </Box>
      {p.parts.length === 0 ? (
        <Typography sx={{ p: 1.5 }} color="text.secondary">
          Nothing of the original's partitions is in evidence yet: a capture of it, or a listing, is drawn
          here.
        </Typography>
      ) : (
        <Columns
          preparing={p}
          layout={layout}
          sizes={strategy === "hand" ? sizes : {}}
          onSize={(n, b) => byHand({ [n]: b })}
        />
      )}
      {layout && (
        <Typography variant="body2" color="text.secondary" sx={{ px: 1.5, pb: 1 }} role="status">
          {layout.fits === "no" ? `Does not fit. ${layout.says ?? ""} ` : (layout.says ?? "")}
          {layout.fits !== "no" && `${layout.free.binary} stay free. `}
          {layout.moved.length > 0 && `Partition ${layout.moved.join(", ")} moves. `}
          Aligned to 1 MiB.
        </Typography>
      )}
      {p.layouts.length > 0 && <Sizes preparing={p} />}
      {strategy === "hand" && (
        <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, px: 1.5, pb: 1.25 }}>
          {p.parts
            .filter((x) => !x.fixed)
            .map((x) => (
              <TextField
                key={`${x.number} ${sizes[x.number] ?? ""}`}
                label={`Partition ${x.number}, GiB`}
                defaultValue={((sizes[x.number] ?? x.size.bytes) / GiB).toFixed(1)}
                helperText={x.least ? `at least ${x.least.binary}` : x.why}
                onBlur={(e) => {
                  const bytes = typedGiB(e.target.value);
                  if (bytes && bytes !== sizes[x.number]) byHand({ [x.number]: bytes });
                }}
                onKeyDown={(e) => e.key === "Enter" && (e.target as HTMLElement).blur()}
                sx={{ width: 170 }}
              />
            ))}
        </Box>
      )}
    </Paper>
  );
}
