import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Typography from "@mui/material/Typography";
import { useFigures } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { Bars } from "./Bars";
import { Fleet } from "./Fleet";

/** The bench's figures: what went wrong, on what, what helped, and how long it took. */
export default function FiguresPage() {
  const figures = useFigures();
  return (
    <Box sx={{ maxWidth: 1180 }}>
      <Box sx={{ display: "flex", alignItems: "center", mb: 1.5 }}>
        <Typography variant="h1" sx={{ mr: "auto" }}>
          Figures
        </Typography>
        <Button variant="outlined" component="a" href="/api/v1/figures.csv" download>
          As comma-separated values
        </Button>
      </Box>
      {figures.isError && <ErrorNotice error={figures.error} retry={() => void figures.refetch()} />}
      {figures.isPending && <LinearProgress aria-label="Counting" />}
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "repeat(2, minmax(0, 1fr))" },
          gap: 1.25,
          alignItems: "start",
        }}
      >
        {figures.data?.groups.map((g) => (
          <Bars key={g.key} group={g} />
        ))}
        <Fleet />
      </Box>
    </Box>
  );
}
