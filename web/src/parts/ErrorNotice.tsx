import Alert from "@mui/material/Alert";
import Button from "@mui/material/Button";

interface Props {
  error: unknown;
  /** Offers to try again. */
  retry?: () => void;
}

/** What went wrong and what to try. */
export function ErrorNotice({ error, retry }: Props) {
  return (
    <Alert
      severity="error"
      variant="outlined"
      sx={{ my: 1, alignItems: "center" }}
      action={
        retry && (
          <Button color="inherit" onClick={retry}>
            Try again
          </Button>
        )
      }
    >
      {error instanceof Error ? error.message : "Something went wrong."}
    </Alert>
  );
}
