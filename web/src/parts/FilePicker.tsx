import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { grouped } from "./format";

/** A file to choose, or to drop. */
export function FilePicker({
  label,
  file,
  onFile,
  required,
}: {
  label: string;
  file?: File;
  onFile: (f: File | undefined) => void;
  required?: boolean;
}) {
  return (
    <Box
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        onFile(e.dataTransfer.files[0]);
      }}
      sx={{ border: "1px dashed", borderColor: "text.secondary", borderRadius: 1, p: 1 }}
    >
      <Typography component="label" variant="body2" sx={{ display: "block", fontWeight: 600 }}>
        {label}
        <Box
          component="input"
          type="file"
          required={required}
          onChange={(e: React.ChangeEvent<HTMLInputElement>) => onFile(e.target.files?.[0])}
          sx={{ display: "block", mt: 0.5, font: "inherit", fontWeight: 400, maxWidth: "100%" }}
        />
      </Typography>
      <Typography variant="caption" color="text.secondary">
        {file ? `${file.name}, ${grouped(file.size)} bytes` : "Choose a file, or drop one here."}
      </Typography>
    </Box>
  );
}
