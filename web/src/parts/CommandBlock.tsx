import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Typography from "@mui/material/Typography";
import { useState } from "react";

interface Props {
  /** What the commands do, and which disk they touch. */
  title: string;
  commands: string;
}

/** Commands to be copied, with what they touch named above them. */
export function CommandBlock({ title, commands }: Props) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(commands);
    setCopied(true);
  };
  return (
    <Box sx={{ border: 1, borderColor: "divider", borderRadius: 1 }}>
      <Box
        sx={{
          display: "flex",
          justifyContent: "space-between",
          alignItems: "center",
          pl: 1,
          borderBottom: 1,
          borderColor: "divider",
        }}
      >
        <Typography variant="caption">{title}</Typography>
        <Button onClick={() => void copy()} onBlur={() => setCopied(false)} aria-label={`Copy: ${title}`}>
          {copied ? "Copied" : "Copy"}
        </Button>
      </Box>
      <Box
        component="pre"
        className="mono"
        tabIndex={0}
        aria-label={title}
        sx={{ m: 0, p: 1, overflowX: "auto" }}
      >
        {commands}
      </Box>
    </Box>
  );
}
