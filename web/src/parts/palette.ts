import { useTheme } from "@mui/material/styles";

/** The palette as CSS variables, so that drawings follow the theme without being drawn anew. */
export function usePalette() {
  const theme = useTheme();
  return (theme.vars ?? theme).palette;
}
