import Box from "@mui/material/Box";

/** Pins at the line, with the cuts of a key beneath them. */
export function Logo() {
  return (
    <Box
      component="svg"
      viewBox="0 0 32 32"
      role="img"
      aria-label="Latchkey"
      sx={(t) => ({ width: 34, display: "block", color: (t.vars ?? t).palette.meaning.railBrass })}
    >
      <path d="M2 17h28" stroke="#efe3c8" strokeWidth="1.5" />
      <path d="M6 17v7h5v-7zm7.5 0v4h5v-4zm7.5 0v9h5v-9z" fill="currentcolor" />
      <path d="M6 5h5v11H6zm7.5 0h5v11h-5zm7.5 0h5v11h-5z" fill="#5d7a8c" />
    </Box>
  );
}
