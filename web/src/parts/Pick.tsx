import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";

/** A choice that may stay unknown. */
export function Pick<T extends string>({
  label,
  value,
  options,
  onPick,
  hint,
}: {
  label: string;
  value?: T;
  options: Record<T, string>;
  onPick: (v: T | undefined) => void;
  /** What the evidence tells about it. */
  hint?: string;
}) {
  return (
    <TextField
      select
      label={label}
      helperText={hint}
      value={value ?? "unknown"}
      onChange={(e) => onPick(e.target.value === "unknown" ? undefined : (e.target.value as T))}
    >
      <MenuItem value="unknown">
        <em>not known</em>
      </MenuItem>
      {(Object.entries(options) as [T, string][]).map(([v, name]) => (
        <MenuItem key={v} value={v}>
          {name}
        </MenuItem>
      ))}
    </TextField>
  );
}
