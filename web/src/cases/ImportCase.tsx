import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useRef } from "react";
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { importCase } from "../api/memory";
import { useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";

/** Takes in a case that another bench handed over. */
export function ImportCase() {
  const field = useRef<HTMLInputElement>(null);
  const take = useTakeCase();
  const navigate = useNavigate();
  const bring = useMutation({
    mutationFn: importCase,
    onSuccess: (c) => {
      take(c);
      void navigate(`/cases/${c.id}/check`);
    },
  });
  return (
    <>
      <input
        ref={field}
        type="file"
        accept=".zip"
        hidden
        aria-label="A case that was exported"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) bring.mutate(file);
          e.target.value = "";
        }}
      />
      <Button
        variant="outlined"
        size="medium"
        disabled={bring.isPending}
        onClick={() => field.current?.click()}
      >
        Take in a case
      </Button>
      {bring.isError && (
        <Box sx={{ width: "100%", order: 9 }}>
          <ErrorNotice error={bring.error} />
        </Box>
      )}
    </>
  );
}
