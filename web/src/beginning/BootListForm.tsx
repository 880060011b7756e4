import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type BootListLine, type Case, tellBootList } from "../api/client";
import { useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";

/** The firmware's boot list, or its one-time menu, typed in its order with its words. */
export function BootListForm({ case: c }: { case: Case }) {
  const [text, setText] = useState("");
  const [lines, setLines] = useState<BootListLine[]>([]);
  const take = useTakeCase();
  const tell = useMutation({
    mutationFn: () => tellBootList(c.id, c.version, text.split("\n")),
    onSuccess: (r) => {
      take(r.case);
      setLines(r.lines);
      setText("");
    },
  });
  return (
    <Box component="details" sx={{ mt: 0.75 }}>
      <Typography
        component="summary"
        variant="body2"
        sx={{ cursor: "pointer", color: "primary.main", fontWeight: 600 }}
      >
        Type the firmware's boot list
      </Typography>
      <Box sx={{ display: "flex", gap: 1, alignItems: "flex-end", mt: 1 }}>
        <TextField
          label="Its lines from the top, with the model or “old”, “new”"
          placeholder={"Windows Boot Manager (the old one)\nthe new one"}
          multiline
          minRows={2}
          maxRows={8}
          fullWidth
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Button
          variant="contained"
          disabled={text.trim() === "" || tell.isPending}
          onClick={() => tell.mutate()}
        >
          Take it
        </Button>
      </Box>
      {tell.isError && <ErrorNotice error={tell.error} />}
      {lines.map((l, i) => (
        <Typography key={i} variant="caption" component="p">
          {l.text}:{" "}
          {l.role
            ? `${l.entry ? "a boot entry to" : "the drive itself,"} the ${l.role}`
            : "no drive is named"}
        </Typography>
      ))}
    </Box>
  );
}
