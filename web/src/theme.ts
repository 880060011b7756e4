import { createTheme } from "@mui/material/styles";

/** The four meanings of the start check, each with a form of its own in the drawings. */
interface Meanings {
  /** Starts: a pin at the line. */
  sea: string;
  /** Stops: a hanging pin. */
  rust: string;
  /** Wrong disk: a turned key. */
  plum: string;
  /** Unproven: a hollow pin. */
  brass: string;
  /** Solid fill of an operating system's partition, and of driver pins. */
  solid: string;
  /** Quiet ground of a selected or grouped row. */
  tint: string;
  /** Ground of the rail, the same in both themes. */
  rail: string;
  railText: string;
  railSelected: string;
  railBrass: string;
}

declare module "@mui/material/styles" {
  interface Palette {
    meaning: Meanings;
  }
  interface PaletteOptions {
    meaning: Meanings;
  }
}

const rail = { rail: "#14212b", railText: "#cfd6d6", railSelected: "#22323e", railBrass: "#d9b56c" };

export const sans = "'Source Sans 3 Variable', 'DejaVu Sans', sans-serif";
export const mono = "'Source Code Pro Variable', 'DejaVu Sans Mono', monospace";

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: "data-theme" },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: "#80591a", contrastText: "#ffffff" },
        error: { main: "#a03a1b" },
        warning: { main: "#80591a" },
        success: { main: "#1b6654" },
        background: { default: "#f5f2ea", paper: "#fbf9f4" },
        text: { primary: "#16232e", secondary: "#53616a" },
        divider: "#d8d2c4",
        meaning: {
          sea: "#1d6f5c",
          rust: "#a03a1b",
          plum: "#6b3a74",
          brass: "#80591a",
          solid: "#2b3c49",
          tint: "#efe9db",
          ...rail,
        },
      },
    },
    dark: {
      palette: {
        primary: { main: "#dcb765", contrastText: "#1a1408" },
        error: { main: "#ee8f6e" },
        warning: { main: "#dcb765" },
        success: { main: "#6cc7ae" },
        background: { default: "#131b22", paper: "#1a242d" },
        text: { primary: "#e6e4da", secondary: "#a3afb6" },
        divider: "#33414c",
        meaning: {
          sea: "#57b89d",
          rust: "#ee8f6e",
          plum: "#c99bd3",
          brass: "#dcb765",
          solid: "#8a9dab",
          tint: "#22303a",
          ...rail,
        },
      },
    },
  },
  shape: { borderRadius: 4 },
  typography: {
    fontFamily: sans,
    fontSize: 14,
    htmlFontSize: 16,
    h1: { fontSize: "1.15rem", fontWeight: 650, lineHeight: 1.3 },
    h2: { fontSize: "1.3rem", fontWeight: 650, lineHeight: 1.25 },
    h3: { fontSize: "0.95rem", fontWeight: 650 },
    body1: { fontSize: "0.875rem", lineHeight: 1.45 },
    body2: { fontSize: "0.8125rem", lineHeight: 1.4 },
    caption: { fontSize: "0.75rem", lineHeight: 1.35 },
    button: { textTransform: "none", fontWeight: 600 },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        body: { fontVariantNumeric: "tabular-nums" },
        "input[type=file]::file-selector-button": {
          font: "inherit",
          color: "inherit",
          background: "transparent",
          border: "1px solid var(--mui-palette-text-secondary)",
          borderRadius: 4,
          padding: "2px 10px",
          marginRight: 8,
          cursor: "pointer",
        },
        "code, kbd, .mono": { fontFamily: mono, fontSize: "0.8125rem" },
        ":focus-visible": { outline: "2px solid var(--mui-palette-primary-main)", outlineOffset: 1 },
        "@media (prefers-reduced-motion: reduce)": {
          "*": { transition: "none !important", animation: "none !important" },
        },
      },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: { defaultProps: { disableElevation: true, size: "small" } },
    MuiPaper: { defaultProps: { elevation: 0, variant: "outlined" } },
    MuiDialog: { defaultProps: { slotProps: { paper: { variant: "elevation", elevation: 8 } } } },
    MuiTextField: { defaultProps: { size: "small" } },
    MuiSelect: { defaultProps: { size: "small" } },
    // Shrunk labels keep 12 pixels: nothing on the screen is smaller.
    MuiInputLabel: {
      styleOverrides: {
        outlined: { "&.MuiInputLabel-shrink": { transform: "translate(12px, -9px) scale(0.93)" } },
      },
    },
    MuiOutlinedInput: { styleOverrides: { notchedOutline: { "& legend": { fontSize: "0.76rem" } } } },
    MuiFormLabel: { styleOverrides: { root: { fontSize: "0.8125rem" } } },
    MuiTableCell: {
      styleOverrides: { root: { padding: "4px 10px", fontSize: "0.8125rem", verticalAlign: "top" } },
    },
    MuiTooltip: { defaultProps: { enterDelay: 400 } },
  },
});
