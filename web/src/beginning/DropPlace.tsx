import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { lay } from "./stickFolder";

/** At most so many files of a folder are looked at: a stick's has one for each variable of the firmware. */
const most = 500;

/** The one place for files, folders, and what is pasted or typed. */
export function DropPlace({ onFiles }: { onFiles: (files: File[]) => void }) {
  const [text, setText] = useState("");
  const [over, setOver] = useState(false);
  const takeText = () => {
    if (text.trim() === "") return;
    onFiles([new File([text], "paste")]);
    setText("");
  };
  return (
    <Box
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault();
        setOver(false);
        void dropped(e.dataTransfer).then(onFiles);
      }}
      sx={{
        border: "1.5px dashed",
        borderColor: over ? "primary.main" : "text.secondary",
        bgcolor: over ? "meaning.tint" : undefined,
        borderRadius: 1,
        p: 1.25,
      }}
    >
      <Box sx={{ display: "flex", gap: 1, alignItems: "center", mb: 1 }}>
        <Box sx={{ mr: "auto" }}>
          <Typography>
            <b>Drop everything here</b>, or paste or type it: captures, lists, files, a whole folder.
          </Typography>
          <Typography variant="body2" color="text.secondary">
            Each piece finds its hook by identifiers, then by capacity.
          </Typography>
        </Box>
        <Button component="label" variant="outlined" sx={{ whiteSpace: "nowrap" }}>
          Choose files
          <input
            type="file"
            multiple
            hidden
            aria-label="Files with evidence"
            onChange={(e) => {
              onFiles([...(e.target.files ?? [])]);
              e.target.value = "";
            }}
          />
        </Button>
      </Box>
      <Box sx={{ display: "flex", gap: 1, alignItems: "flex-end" }}>
        <TextField
          label="What a command printed, or a screen shows"
          multiline
          minRows={1}
          maxRows={8}
          fullWidth
          value={text}
          onChange={(e) => setText(e.target.value)}
          onPaste={(e) => {
            const files = [...e.clipboardData.files];
            if (files.length > 0) {
              e.preventDefault();
              onFiles(files);
            }
          }}
          onKeyDown={(e) => {
            if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) takeText();
          }}
          slotProps={{ htmlInput: { className: "mono", spellCheck: false } }}
        />
        <Button variant="contained" disabled={text.trim() === ""} onClick={takeText}>
          Take it
        </Button>
      </Box>
    </Box>
  );
}

/** The files that were dropped, those within folders, too. */
async function dropped(data: DataTransfer): Promise<File[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null);
  const files: File[] = [];
  const plain = [...data.files];
  for (const e of entries) await collect(e, files);
  if (files.length > 0) return files;
  const text = data.getData("text/plain");
  return plain.length > 0 || text === "" ? plain : [new File([text], "paste")];
}

async function collect(entry: FileSystemEntry, into: File[]): Promise<void> {
  if (into.length >= most) return;
  if (entry.isFile) {
    const file = await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no));
    into.push(lay(file, entry.fullPath));
    return;
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
    if (some.length === 0) return;
    for (const e of some) await collect(e, into);
  }
}
